// The strip: the pages in a column beside the page, or in a row below it where the window is taller than wide. It frames the page that
// is looked at and marks those that a step will touch.
import { hidden } from "../dom.js";
import { state, index, look, on } from "../state.js";
import { Leaves } from "./leaves.js";

const sizes = {
  column: { picW: 66, picH: 84, step: 112, pad: 6 },
  row: { picW: 48, picH: 60, step: 62, pad: 10 },
  low: { picW: 34, picH: 40, step: 48, pad: 8 },
};

export class Strip extends Leaves {
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
      const by = { ArrowRight: 1, ArrowDown: 1, ArrowLeft: -1, ArrowUp: -1 }[e.key];
      if (!by) return;
      look(state.pages[Math.max(0, Math.min(state.pages.length - 1, index(state.at) + by))].key);
      e.preventDefault();
      e.stopPropagation();
    }, { signal });
    on("look", () => this.show(), signal);
    on("resized", () => {
      this.layout();
      this.show();
    }, signal);
  }

  layout() {
    const how = this.el.clientHeight > this.el.clientWidth ? "column" : this.el.clientHeight < 90 ? "low" : "row";
    if (this.how !== how) {
      this.how = how;
      Object.assign(this, sizes[how]);
      this.drawRange(0, -1); // none: they are made anew
      this.column = how === "column";
      this.el.classList.toggle("along", !this.column);
      this.el.setAttribute("aria-orientation", this.column ? "vertical" : "horizontal");
    }
    const long = `${state.pages.length * this.step + 2 * this.pad}px`;
    this.run.style.width = this.column ? "100%" : long;
    this.run.style.height = this.column ? long : "100%";
    this.draw();
  }

  place(i, leaf) {
    const at = `${this.pad + i * this.step}px`;
    leaf.style.left = this.column ? "0" : at;
    leaf.style.top = this.column ? at : "0";
    leaf.style.width = this.column ? "100%" : `${this.step}px`;
  }

  // where is how far it is scrolled, and how much of it is seen.
  where() {
    return this.column ? [this.el.scrollTop, this.el.clientHeight] : [this.el.scrollLeft, this.el.clientWidth];
  }

  draw() {
    if (!this.step) return;
    const [at, size] = this.where();
    const first = Math.max(0, Math.floor(at / this.step) - 4);
    const last = Math.min(state.pages.length - 1, Math.ceil((at + size) / this.step) + 4);
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
    const x = this.pad + index(state.at) * this.step;
    const [at, size] = this.where();
    if (x < at + this.step / 2 || x > at + size - 1.5 * this.step) {
      this.el[this.column ? "scrollTop" : "scrollLeft"] = x - size / 2 + this.step / 2;
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
