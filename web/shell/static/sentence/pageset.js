// Page sets, read while one types; the rules themselves are the server's.

// pageSet gives the indexes (from 0) that a page set means among pages, which are given as a list of pages with labels, or as their number; null where it
// can't be read yet.
export function pageSet(text, among) {
  const n = typeof among === "number" ? among : among.length;
  const but = /^\s*all but\s+(.*)$/i.exec(text);
  if (but) {
    const left = pageSet(but[1], among);
    if (!left) return left;
    const out = new Set(left);
    return [...Array(n).keys()].filter((i) => !out.has(i));
  }
  const out = new Set();
  for (const raw of parts(text)) {
    let part = raw.trim();
    let every = 0;
    const m = /^(odd|even)(?:\s+(.*))?$/i.exec(part);
    if (m) {
      every = m[1].toLowerCase() === "odd" ? 1 : 2;
      part = m[2] ?? "1-last";
    }
    if (/^all$/i.test(part)) part = "1-last";
    if (part === "" || part === "-") return null;
    let from = number(part, null, among, n);
    let to = from;
    if (from === null) {
      const at = hyphen(part);
      if (at < 0) return null;
      const [a, b] = [part.slice(0, at).trim(), part.slice(at + 1).trim()];
      from = number(a, 1, among, n);
      to = number(b, n, among, n);
      if (from === null || to === null) return null;
      if (from > to && b !== "" && !/^last$/i.test(b)) [from, to] = [to, from];
    }
    for (let i = Math.max(1, from); i <= Math.min(n, to); i++) if (!every || i % 2 === every % 2) out.add(i - 1);
  }
  return [...out].sort((a, b) => a - b);
}

// parts parts a page set at its commas, but for those between quotes.
function parts(text) {
  return text.match(/(?:"[^"]*"|[^",])+|(?<=,)(?=,|$)|^(?=,)/g) ?? [text];
}

// hyphen finds the hyphen of a range: one that stands between quoted labels, else the first.
function hyphen(text) {
  let quoted = false;
  for (let i = 0; i < text.length; i++) {
    if (text[i] === '"') quoted = !quoted;
    else if (text[i] === "-" && !quoted) return i;
  }
  return -1;
}

// number gives the place of one page, by its number or its label; null where it is none.
function number(s, missing, among, n) {
  if (s === "") return missing;
  if (/^last$/i.test(s)) return n;
  if (/^first$/i.test(s)) return 1;
  if (/^\d+$/.test(s)) return Number(s) >= 1 ? Number(s) : null;
  if (typeof among === "number") return null;
  const quoted = /^"(.+)"$/.exec(s);
  const label = quoted ? quoted[1] : s;
  const names = among.map((p, i) => p.label || (quoted ? String(i + 1) : ""));
  let at = names.indexOf(label);
  if (at < 0) at = names.findIndex((x) => x.toLowerCase() === label.toLowerCase() && x !== "");
  return at < 0 ? null : at + 1;
}

// writeSet writes indexes, which are ascending, as a page set: "3-8, 11".
export function writeSet(at) {
  const list = [];
  for (let i = 0; i < at.length; ) {
    let j = i;
    while (at[j + 1] === at[j] + 1) j++;
    list.push(i === j ? `${at[i] + 1}` : `${at[i] + 1}-${at[j] + 1}`);
    i = j + 1;
  }
  return list.join(", ");
}
