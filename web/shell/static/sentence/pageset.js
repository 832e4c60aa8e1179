// Page sets, read while one types; the rules themselves are the server's.

// pageSet gives the indexes (from 0) that a page set means in a document of n pages; null where it can't be read yet.
export function pageSet(text, n) {
  const but = /^\s*all but\s+(.*)$/i.exec(text);
  if (but) {
    const left = pageSet(but[1], n);
    if (!left) return left;
    const out = new Set(left);
    return [...Array(n).keys()].filter((i) => !out.has(i));
  }
  const out = new Set();
  for (const raw of text.toLowerCase().split(",")) {
    let part = raw.trim();
    let every = 0;
    const m = /^(odd|even)\b\s*(.*)$/.exec(part);
    if (m) {
      every = m[1] === "odd" ? 1 : 2;
      part = m[2] || "1-last";
    }
    if (part === "all") part = "1-last";
    const r = /^(\d+|first|last)?\s*(-)?\s*(\d+|first|last)?$/.exec(part);
    if (!r || part === "" || part === "-") return null;
    const num = (v, d) => (v === undefined ? d : v === "last" ? n : v === "first" ? 1 : Number(v));
    const from = num(r[1], 1);
    const to = r[2] ? num(r[3], n) : from;
    for (let i = Math.max(1, from); i <= Math.min(n, to); i++) if (!every || i % 2 === every % 2) out.add(i - 1);
  }
  return [...out].sort((a, b) => a - b);
}

// writeSet writes indexes, which are ascending, as a page set: "3-8, 11".
export function writeSet(at) {
  const parts = [];
  for (let i = 0; i < at.length; ) {
    let j = i;
    while (at[j + 1] === at[j] + 1) j++;
    parts.push(i === j ? `${at[i] + 1}` : `${at[i] + 1}-${at[j] + 1}`);
    i = j + 1;
  }
  return parts.join(", ");
}
