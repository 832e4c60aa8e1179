// Real text: recognized blocks become text, but for those that stay pictures, which are chosen on the page or in the list.
import { el, answer } from "../dom.js";
import { startPreview } from "../sentence/preview.js";
import { state, page, on } from "../state.js";
import { startParting } from "../surface/parting.js";

let kept = new Set(); // "0.3" or "0.3:2": what stays a picture
let of = ""; // of which document

export function mount({ slip, paper, strip, signal }) {
  const form = slip.querySelector("#set-text-form");
  if (!form) return;
  if (of !== state.doc) [kept, of] = [new Set(), state.doc];
  form.elements.keep.value = [...kept].join(" ");
  let blocks = [];
  let read = "";
  startParting(paper, signal);
  startPreview(form, { paper, strip, signal });

  async function looked() {
    const p = page(state.at);
    if (!p) return;
    const name = `${p.key} ${p.version}`;
    if (read === name) return draw();
    read = name;
    blocks = [];
    draw();
    const got = await answer(`/desk/${state.doc}/recognize/blocks/${p.key}`, { signal });
    if (!got.ok || read !== name || signal.aborted) return;
    blocks = got.json();
    draw();
  }

  const named = (i) => `${state.at}:${i}`;
  const stays = (i) => kept.has(state.at) || kept.has(named(i));

  function toggle(name) {
    if (!kept.delete(name)) kept.add(name);
    form.elements.keep.value = [...kept].join(" ");
    form.dispatchEvent(new Event("input", { bubbles: true }));
    draw();
  }

  // box makes a box to tick, of a block or of the whole page.
  function box(name, text, ticked, disabled) {
    const label = document.createElement("label");
    const input = Object.assign(document.createElement("input"), { type: "checkbox", checked: ticked, disabled });
    input.addEventListener("change", () => {
      toggle(name);
      el("set-blocks").querySelector(`[data-name="${name}"]`)?.focus();
    });
    input.dataset.name = name;
    label.append(input, " ", text);
    return label;
  }

  function draw() {
    const g = paper.group("blocks");
    const list = el("set-blocks");
    list.replaceChildren();
    el("set-here").hidden = blocks.length === 0;
    if (!blocks.length) return;
    const first = document.createElement("li");
    first.append(box(state.at, "this whole page", kept.has(state.at), false));
    list.append(first);
    blocks.forEach((b, i) => {
      const shape = paper.polygon(b.q, stays(i) ? "block kept" : "block");
      shape.addEventListener("click", () => kept.has(state.at) || toggle(named(i)));
      g.append(shape);
      const li = document.createElement("li");
      li.append(box(named(i), b.text, stays(i), kept.has(state.at)));
      for (const [name, on] of [["mouseenter", true], ["mouseleave", false], ["focusin", true], ["focusout", false]]) li.addEventListener(name, () => shape.classList.toggle("shown", on));
      list.append(li);
    });
  }

  on("look", looked, signal);
  on("resized", draw, signal);
  looked();
}
