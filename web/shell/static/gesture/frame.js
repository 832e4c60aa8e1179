// A frame drawn on the page with the pointer, in points.
import { frame } from "../geometry.js";
import { press } from "./press.js";

// drawFrame follows the pointer from pointerdown on: draw(frame) while it is drawn, end(frame) when it is let go,
// cancel() when it is given up. With click(), a press that does not go far is a click and draws no frame.
export function drawFrame(down, paper, { draw, end, cancel, click, signal }) {
  const start = paper.point(down);
  let box = null;
  press(down, {
    scrolls: paper.view, near: click ? undefined : 0, signal, cancel, click,
    move: (x, y, e) => draw((box = frame(start, paper.point(e)))),
    end: () => (box ? end(box) : cancel()),
  });
}
