// Leaves are small pages in a row or grid: only those in sight are in the document.
import { hidden } from "../dom.js";
import { state } from "../state.js";

export class Leaves {
  // of is the run of pages that is shown.
  constructor(el, signal, of = state) {
    this.el = el;
    this.of = of;
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
    const p = this.of.pages[i];
    const leaf = document.createElement("div");
    leaf.className = "leaf";
    leaf.id = `${this.el.id}-${p.key.replace(".", "-")}`;
    leaf.dataset.index = i;
    leaf.setAttribute("role", "option");
    leaf.setAttribute("aria-posinset", i + 1);
    leaf.setAttribute("aria-setsize", this.of.pages.length);
    const pic = document.createElement("div");
    pic.className = "pic";
    const img = document.createElement("img");
    img.alt = "";
    img.draggable = false;
    const s = Math.min(this.picW / p.w, this.picH / p.h);
    img.width = Math.max(4, Math.round(p.w * s));
    img.height = Math.max(4, Math.round(p.h * s));
    img.src = this.of.picture(p, Math.max(img.width, img.height));
    pic.style.height = `${this.picH}px`;
    pic.append(img);
    const label = document.createElement("div");
    label.className = "leaf-name";
    label.append(hidden("Page "), p.label || String(i + 1));
    if (p.label && p.label !== String(i + 1)) {
      const place = document.createElement("span");
      place.className = "leaf-place";
      place.append(hidden(", the "), String(i + 1), hidden(". in the document"));
      label.append(" ", place);
    }
    leaf.append(pic, label);
    this.place(i, leaf);
    return leaf;
  }

  leaf(key) {
    return this.leaves.get(this.of.index(key));
  }
}
