// Shapes on a page. A quad is x and y of four corners, going round, in points from the upper left corner of the page as it is seen.

// bounds gives the upright rectangle around a quad: left, top, right, bottom.
export function bounds(q) {
  return [Math.min(q[0], q[2], q[4], q[6]), Math.min(q[1], q[3], q[5], q[7]), Math.max(q[0], q[2], q[4], q[6]), Math.max(q[1], q[3], q[5], q[7])];
}

// frame gives the upright rectangle between two points.
export const frame = ([ax, ay], [bx, by]) => [Math.min(ax, bx), Math.min(ay, by), Math.max(ax, bx), Math.max(ay, by)];

// inside tells whether a point lies in a rectangle.
export const inside = ([x0, y0, x1, y1], [x, y]) => x >= x0 && x <= x1 && y >= y0 && y <= y1;

// distance tells how far a point is from a rectangle, along the lines of text rather than across them.
export function distance([x0, y0, x1, y1], [x, y]) {
  return Math.max(x0 - x, 0, x - x1) + 3 * Math.max(y0 - y, 0, y - y1);
}

// middle gives the middle of a quad.
export const middle = (q) => [(q[0] + q[4]) / 2, (q[1] + q[5]) / 2];

// upTo gives a quad that goes on to where the next one of its line begins, so that a line is one piece; the quad itself where that one
// stands before it.
export function upTo(q, next) {
  const ahead = (next[0] - q[0]) * (q[2] - q[0]) + (next[1] - q[1]) * (q[3] - q[1]) > 0;
  return ahead ? [q[0], q[1], next[0], next[1], next[6], next[7], q[6], q[7]] : q;
}

// scaled gives pixels of a point for a page of w by h points in a view of so many pixels: "page" shows all of it, "width" its whole
// width, a number is a scale where 1 is 96 pixels an inch. The page's longest side comes out in steps of 4 pixels, as pictures
// are drawn.
export function scaled(how, w, h, viewW, viewH) {
  const full = 96 / 72;
  const most = 3 * full;
  let s = how === "page" ? Math.min(viewH / h, viewW / w, most) : how === "width" ? Math.min(viewW / w, most) : how * full;
  const long = Math.max(w, h);
  return Math.max(4, Math.floor((long * s) / 4 + 0.01) * 4) / long;
}
