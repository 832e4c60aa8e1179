// The ribbon: the pages in a row along the bottom. It frames the page that is looked at
// and marks those that a step will touch.
import { desk } from "./desk.js";
import { Leaves, hidden } from "./leaves.js";

const step = 62;

export class Ribbon extends Leaves {
  picW = 48;
  picH = 60;

  constructor(el, go) {
    super(el);
    this.touched = new Set();
    this.hits = new Map();
    this.layout();
    el.addEventListener("click", (e) => {
      const leaf = e.target.closest(".leaf");
      if (leaf) go(desk.pages[Number(leaf.dataset.index)].key);
    });
    el.addEventListener("keydown", (e) => {
      const by = { ArrowRight: 1, ArrowLeft: -1 }[e.key];
      if (!by) return;
      const i = Math.max(0, Math.min(desk.pages.length - 1, desk.index(desk.at) + by));
      go(desk.pages[i].key);
      e.preventDefault();
      e.stopPropagation();
    });
  }

  layout() {
    this.run.style.width = `${desk.pages.length * step + 20}px`;
    this.run.style.height = "96px";
    this.draw();
  }

  place(i, leaf) {
    leaf.style.left = `${10 + i * step}px`;
    leaf.style.width = `${step}px`;
  }

  draw() {
    const first = Math.max(0, Math.floor(this.el.scrollLeft / step) - 4);
    const last = Math.min(desk.pages.length - 1, Math.ceil((this.el.scrollLeft + this.el.clientWidth) / step) + 4);
    this.drawRange(first, last);
  }

  mark(i, leaf) {
    const p = desk.pages[i];
    const here = p.key === desk.at;
    leaf.classList.toggle("here", here);
    leaf.setAttribute("aria-selected", String(here));
    const touched = this.touched.has(p.key);
    leaf.classList.toggle("touched", touched);
    leaf.querySelector(".will-change")?.remove();
    if (touched) {
      const will = hidden(", will change");
      will.classList.add("will-change");
      leaf.append(will);
    }
    const hits = this.hits.get(p.key);
    let count = leaf.querySelector(".leaf-hits");
    if (!hits) count?.remove();
    else {
      if (!count) {
        count = document.createElement("span");
        count.className = "leaf-hits";
        leaf.append(count);
      }
      count.replaceChildren(String(hits), hidden(hits === 1 ? " hit" : " hits"));
    }
  }

  // found marks the pages that have hits in their text.
  found(hits) {
    this.hits = hits;
    this.draw();
  }

  show(key) {
    const x = 10 + desk.index(key) * step;
    if (x < this.el.scrollLeft + step || x > this.el.scrollLeft + this.el.clientWidth - 2 * step) {
      this.el.scrollLeft = x - this.el.clientWidth / 2 + step / 2;
    }
    this.draw();
    const leaf = this.leaf(key);
    if (leaf) this.el.setAttribute("aria-activedescendant", leaf.id);
  }

  touch(keys) {
    this.touched = new Set(keys);
    this.draw();
  }
}
