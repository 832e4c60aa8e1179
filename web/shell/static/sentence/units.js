// Lengths with a unit, as people type them: 12mm, 1.5cm, 0.5in, 9pt, and picas and points, 1p6.
const points = { pt: 1, mm: 72 / 25.4, cm: 720 / 25.4, in: 72 };

// parse gives a length in points; without a unit it is in points; null for what is none.
export function parse(text) {
  const t = text.toLowerCase().replaceAll(" ", "");
  const number = (s) => (/^[+-]?(\d+\.?\d*|\.\d+)(e[+-]?\d+)?$/.test(s) ? Number(s) : null);
  for (const [unit, n] of Object.entries(points)) {
    if (t.endsWith(unit)) {
      const v = number(t.slice(0, -unit.length));
      return v === null ? null : v * n;
    }
  }
  const pica = /^([^p]+)p(.*)$/.exec(t);
  if (pica) {
    const [a, b] = [number(pica[1]), number("0" + pica[2])];
    return a === null || b === null ? null : a * 12 + b;
  }
  return number(t);
}

// nudge makes a length larger or smaller by so many steps, and keeps its unit; what is none stays as it is.
export function nudge(text, by, unit = "pt") {
  if (parse(text) === null || /p\d*$/i.test(text.trim())) return text;
  const m = /^\s*([+-]?[\d.]+)\s*([a-z]*)\s*$/i.exec(text);
  if (!m) return text;
  const u = m[2].toLowerCase() || unit;
  const step = { pt: 0.5, mm: 1, cm: 0.1, in: 0.05 }[u] ?? 1;
  const v = Math.max(0, Number(m[1]) + by * step);
  return `${Number(v.toFixed(3))} ${m[2] || unit}`;
}
