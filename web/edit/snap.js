// Snapping: what is moved comes to lie level with what stands on the page, or at a gap that stands there already.

const near = 6; // pixels

// snapper gives a function that takes a rectangle [x0, y0, x1, y1] in points and tells by how much to move it, and which lines to draw.
// others are rectangles on the page; w and h its size; lines are heights of baselines there, own those of what is moved, from its upper edge down.
export function snapper(others, w, h, scale, lines = [], own = []) {
  const xs = [[0, 0, h], [w / 2, 0, h], [w, 0, h]];
  const ys = [[0, 0, w], [h / 2, 0, w], [h, 0, w]];
  for (const [x0, y0, x1, y1] of others) {
    for (const x of [x0, (x0 + x1) / 2, x1]) xs.push([x, y0, y1]);
    for (const y of [y0, (y0 + y1) / 2, y1]) ys.push([y, x0, x1]);
  }
  const inner = others.length ? [Math.min(...others.map((o) => o[0])), Math.min(...others.map((o) => o[1])), Math.max(...others.map((o) => o[2])), Math.max(...others.map((o) => o[3]))] : null;
  if (inner) { // the margins of what stands on the page
    xs.push([inner[0], 0, h], [inner[2], 0, h]);
    ys.push([inner[1], 0, w], [inner[3], 0, w]);
  }
  return (r) => {
    const tol = near / scale;
    const best = (list, a, b) => {
      let out = null;
      for (const [at, from, to] of list) {
        for (const own of [a, (a + b) / 2, b]) {
          const d = at - own;
          if (Math.abs(d) <= tol && (!out || Math.abs(d) < Math.abs(out.d))) out = { d, at, from, to };
        }
      }
      return out;
    };
    // Gaps: as far from the next object as that is from the one behind it.
    const gap = (i) => {
      const [lo, hi] = [i, i + 2];
      const cross = (o) => o[1 - i] < r[3 - i] && o[3 - i] > r[1 - i];
      const row = others.filter(cross).sort((a, b) => a[lo] - b[lo]);
      for (let k = 0; k + 1 < row.length; k++) {
        const g = row[k + 1][lo] - row[k][hi];
        if (g <= 0) continue;
        for (const [d, at] of [[row[k + 1][hi] + g - r[lo], row[k + 1][hi]], [row[k][lo] - g - r[hi], row[k][lo]]]) if (Math.abs(d) <= tol) return { d, gap: g, at };
      }
      return null;
    };
    const x = best(xs, r[0], r[2]) ?? gap(0);
    let y = best(ys, r[1], r[3]);
    for (const at of lines) {
      for (const o of own) {
        const d = at - o - r[1];
        if (Math.abs(d) <= tol && (!y || Math.abs(d) < Math.abs(y.d))) y = { d, at, from: 0, to: w };
      }
    }
    y ??= gap(1);
    const guides = [];
    if (x?.at !== undefined && x.gap === undefined) guides.push([x.at, Math.min(x.from, r[1]), x.at, Math.max(x.to, r[3])]);
    if (y?.at !== undefined && y.gap === undefined) guides.push([Math.min(y.from, r[0]), y.at, Math.max(y.to, r[2]), y.at]);
    return { dx: x?.d ?? 0, dy: y?.d ?? 0, guides, gaps: [x, y].filter((v) => v?.gap !== undefined).map((v) => v.gap) };
  };
}
