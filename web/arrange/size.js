// The size of pages: cropping by a frame that is drawn or by numbers, other paper, room for binding. What is chosen is previewed on the page.
import { el } from "../dom.js";
import { state, page, on } from "../state.js";
import { startPreview } from "../sentence/preview.js";
import { drawFrame } from "../gesture/frame.js";

const svg = "http://www.w3.org/2000/svg";
const mm = 25.4 / 72;
let chosen = "crop"; // kept from step to step

export function mount({ slip, paper, strip, signal }) {
  const what = el("size-what");
  const forms = [...slip.querySelectorAll("form[data-what]")];
  const crop = el("crop-form");
  let frame = null; // in points from the upper left corner

  const current = () => forms.find((f) => f.dataset.what === what.value);
  const edges = () => what.value === "crop" && crop.elements.to.value === "edges";

  // when shows what belongs to the values that are chosen.
  function when() {
    for (const f of forms) f.hidden = f !== current();
    for (const part of slip.querySelectorAll("[data-when]")) {
      const f = part.closest("form");
      part.hidden = ![f.elements.to?.value, f.elements.paper?.value, f.elements.remove?.value === "yes" && "removed"].includes(part.dataset.when);
    }
  }

  const drawn = () => ["left", "top", "right", "bottom"].some((k) => parseFloat(crop.elements[k].value) > 0);

  for (const f of forms) startPreview(f, { paper, strip, signal, wants: (x) => x === current() && (x !== crop || !edges() || drawn()) });
  slip.addEventListener("change", (e) => {
    if (!e.target.matches("select")) return;
    chosen = what.value;
    when();
    if (e.target !== what) return;
    paper.show();
    strip.touch([]);
    current().dispatchEvent(new Event("input", { bubbles: true }));
  }, { signal });

  // --- the frame is drawn on the page as it is; what it cuts off is shown by the preview

  paper.paper.classList.add("crops");
  signal.addEventListener("abort", () => paper.paper.classList.remove("crops"), { once: true });

  function show(f) {
    const g = paper.group("crop");
    if (!f) return;
    const r = document.createElementNS(svg, "rect");
    for (const [k, v] of Object.entries({ x: f[0], y: f[1], width: f[2] - f[0], height: f[3] - f[1], class: "spot" })) r.setAttribute(k, v);
    g.append(r);
  }

  paper.paper.addEventListener("pointerdown", (e) => {
    if (e.button !== 0 || !edges()) return;
    e.preventDefault();
    if (frame) reset(); // the page as it is, to draw on
    drawFrame(e, paper, {
      signal,
      draw: show,
      end: (f) => {
        show(null);
        const p = page(state.at);
        frame = [Math.max(0, f[0]), Math.max(0, f[1]), Math.min(p.w, f[2]), Math.min(p.h, f[3])];
        if (frame[2] - frame[0] < 9 || frame[3] - frame[1] < 9) return reset();
        const set = (k, v) => (crop.elements[k].value = `${Math.max(0, v * mm).toFixed(1)} mm`);
        set("left", frame[0]);
        set("top", frame[1]);
        set("right", p.w - frame[2]);
        set("bottom", p.h - frame[3]);
        return crop.dispatchEvent(new Event("input", { bubbles: true }));
      },
      cancel: () => show(null),
    });
  }, { signal });

  function reset() {
    frame = null;
    for (const k of ["left", "top", "right", "bottom"]) crop.elements[k].value = "0 mm";
    strip.touch([]);
    paper.show();
    crop.dispatchEvent(new Event("input", { bubbles: true }));
  }
  el("crop-reset").addEventListener("click", reset, { signal });

  what.value = chosen;
  when();
  on("look", () => show(null), signal);
  if (chosen !== "crop") current().dispatchEvent(new Event("input", { bubbles: true }));
}
