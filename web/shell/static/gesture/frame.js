// A frame drawn on the page with the pointer, in points.
import { frame } from "../geometry.js";
import { press } from "./press.js";

// drawFrame follows the pointer from pointerdown on: draw(frame) while it is drawn, end(frame) when it is let go, cancel() when it is given up.
export function drawFrame(down, paper, { draw, end, cancel, signal }) {
  const start = paper.point(down);
  let box = null;
  press(down, {
    scrolls: paper.view, near: 0, signal, cancel,
    move: (x, y, e) => draw((box = frame(start, paper.point(e)))),
    end: () => (box ? end(box) : cancel()),
  });
}
