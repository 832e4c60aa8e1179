// Leaves are small pages in a row or grid: only those in sight are in the document.
import { hidden } from "../dom.js";
import { state, index, picture } from "../state.js";

export class Leaves {
  constructor(el, signal) {
    this.el = el;
    this.run = document.createElement("div");
    this.run.className = "run";
    this.run.setAttribute("role", "presentation");
    el.replaceChildren(this.run);
    this.leaves = new Map(); // index -> element
    el.addEventListener("scroll", () => this.draw(), { passive: true, signal });
  }

  // drawRange puts the leaves from first to last into the document and removes the others.
  drawRange(first, last) {
    for (const [i, leaf] of this.leaves) {
      if (i < first || i > last) {
        leaf.querySelector("img").removeAttribute("src"); // stops a picture that is still coming
        leaf.remove();
        this.leaves.delete(i);
      }
    }
    for (let i = first; i <= last; i++) {
      if (!this.leaves.has(i)) {
        const leaf = this.make(i);
        this.leaves.set(i, leaf);
        this.run.append(leaf);
      }
      this.mark(i, this.leaves.get(i));
    }
  }

  make(i) {
    const p = state.pages[i];
    const leaf = document.createElement("div");
    leaf.className = "leaf";
    leaf.id = `${this.el.id}-${p.key.replace(".", "-")}`;
    leaf.dataset.index = i;
    leaf.setAttribute("role", "option");
    leaf.setAttribute("aria-posinset", i + 1);
    leaf.setAttribute("aria-setsize", state.pages.length);
    const pic = document.createElement("div");
    pic.className = "pic";
    const img = document.createElement("img");
    img.alt = "";
    img.draggable = false;
    const s = Math.min(this.picW / p.w, this.picH / p.h);
    img.width = Math.max(4, Math.round(p.w * s));
    img.height = Math.max(4, Math.round(p.h * s));
    img.src = picture(p, Math.max(img.width, img.height));
    pic.style.height = `${this.picH}px`;
    pic.append(img);
    const label = document.createElement("div");
    label.append(hidden("Page "), String(i + 1));
    leaf.append(pic, label);
    this.place(i, leaf);
    return leaf;
  }

  leaf(key) {
    return this.leaves.get(index(key));
  }
}
