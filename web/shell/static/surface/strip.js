// The strip: the pages in a row along the bottom. It frames the page that is looked at
// and marks those that a step will touch.
import { hidden } from "../dom.js";
import { state, index, look, on } from "../state.js";
import { Leaves } from "./leaves.js";

const step = 62;

export class Strip extends Leaves {
  picW = 48;
  picH = 60;

  constructor(el, signal) {
    super(el, signal);
    this.touched = new Set(); // indexes
    this.hits = new Map();
    this.layout();
    el.addEventListener("click", (e) => {
      const leaf = e.target.closest(".leaf");
      if (leaf) look(state.pages[Number(leaf.dataset.index)].key);
    }, { signal });
    el.addEventListener("keydown", (e) => {
      const by = { ArrowRight: 1, ArrowLeft: -1 }[e.key];
      if (!by) return;
      look(state.pages[Math.max(0, Math.min(state.pages.length - 1, index(state.at) + by))].key);
      e.preventDefault();
      e.stopPropagation();
    }, { signal });
    on("look", () => this.show(), signal);
    on("resized", () => this.layout(), signal);
  }

  layout() {
    this.run.style.width = `${state.pages.length * step + 20}px`;
    this.run.style.height = "96px";
    this.draw();
  }

  place(i, leaf) {
    leaf.style.left = `${10 + i * step}px`;
    leaf.style.width = `${step}px`;
  }

  draw() {
    const first = Math.max(0, Math.floor(this.el.scrollLeft / step) - 4);
    const last = Math.min(state.pages.length - 1, Math.ceil((this.el.scrollLeft + this.el.clientWidth) / step) + 4);
    this.drawRange(first, last);
  }

  mark(i, leaf) {
    const p = state.pages[i];
    const here = p.key === state.at;
    leaf.classList.toggle("here", here);
    leaf.setAttribute("aria-selected", String(here));
    const touched = this.touched.has(i);
    leaf.classList.toggle("touched", touched);
    leaf.querySelector(".will-change")?.remove();
    if (touched) {
      const will = hidden(", will change");
      will.classList.add("will-change");
      leaf.append(will);
    }
    const hits = this.hits.get(p.key);
    let badge = leaf.querySelector(".leaf-hits");
    if (!hits) badge?.remove();
    else {
      if (!badge) {
        badge = document.createElement("span");
        badge.className = "leaf-hits";
        leaf.append(badge);
      }
      badge.replaceChildren(String(hits), hidden(hits === 1 ? " match" : " matches"));
    }
  }

  // found marks the pages that have matches in their text.
  found(hits) {
    this.hits = hits;
    this.draw();
  }

  show() {
    const x = 10 + index(state.at) * step;
    if (x < this.el.scrollLeft + step || x > this.el.scrollLeft + this.el.clientWidth - 2 * step) {
      this.el.scrollLeft = x - this.el.clientWidth / 2 + step / 2;
    }
    this.draw();
    const leaf = this.leaf(state.at);
    if (leaf) this.el.setAttribute("aria-activedescendant", leaf.id);
  }

  // touch marks the pages at those indexes as what a step will change.
  touch(indexes) {
    this.touched = new Set(indexes);
    this.draw();
  }
}
