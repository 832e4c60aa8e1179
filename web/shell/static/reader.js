// Reader's view: the page alone, as the reader of the file sees it.
import { el } from "./dom.js";
import { state, index, picture } from "./state.js";

export class Reader {
  constructor() {
    this.el = el("reader");
    el("reader-close").onclick = () => this.close();
  }

  get isOpen() {
    return !this.el.hidden;
  }

  open() {
    this.from = document.activeElement;
    this.i = Math.max(0, index(state.at));
    this.el.hidden = false;
    this.show();
    el("reader-page").focus();
  }

  close() {
    this.el.hidden = true;
    this.from?.isConnected ? this.from.focus({ preventScroll: true }) : el("stage").focus();
  }

  show() {
    const p = state.pages[this.i];
    const img = document.createElement("img");
    img.alt = `Page ${this.i + 1} of ${state.name}`;
    const s = Math.min((innerHeight - 70) / p.h, (innerWidth * 0.96) / p.w);
    img.width = Math.round(p.w * s);
    img.height = Math.round(p.h * s);
    img.src = picture(p, Math.max(img.width, img.height));
    el("reader-page").replaceChildren(img);
    el("reader-where").textContent = `${state.name}, page ${this.i + 1} of ${state.pages.length}`;
  }

  // key answers a key press before anybody else does.
  key(e) {
    const by = { ArrowRight: 1, ArrowDown: 1, PageDown: 1, " ": 1, ArrowLeft: -1, ArrowUp: -1, PageUp: -1, Home: -1e9, End: 1e9 }[e.key];
    if (e.key === "Tab" || e.ctrlKey || e.metaKey || e.altKey) return;
    if (by && document.activeElement?.id !== "reader-close") {
      this.i = Math.max(0, Math.min(state.pages.length - 1, this.i + by));
      this.show();
    } else if (e.key === "Escape" || e.key.toLowerCase() === "e") {
      this.close();
    } else {
      if (e.key.length === 1 && e.key !== " ") e.stopPropagation(); // the desk behind it does not hear it
      return;
    }
    e.preventDefault();
    e.stopPropagation();
  }
}
