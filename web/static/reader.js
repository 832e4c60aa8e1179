// Reader's view: the page alone, as the one who gets the file sees it.
import { desk, box } from "./desk.js";

export class Reader {
  constructor() {
    this.el = document.getElementById("reader");
    document.getElementById("reader-close").onclick = () => this.close();
  }

  get isOpen() {
    return !this.el.hidden;
  }

  open() {
    this.from = document.activeElement;
    this.i = Math.max(0, desk.index(desk.at));
    this.el.hidden = false;
    this.show();
    document.getElementById("reader-page").focus();
  }

  close() {
    this.el.hidden = true;
    this.from?.isConnected ? this.from.focus({ preventScroll: true }) : document.getElementById("stage").focus();
  }

  show() {
    const p = desk.pages[this.i];
    const img = document.createElement("img");
    img.alt = `Page ${this.i + 1} of ${desk.name}`;
    const s = Math.min((innerHeight - 70) / p.h, (innerWidth * 0.96) / p.w);
    img.width = Math.round(p.w * s);
    img.height = Math.round(p.h * s);
    img.src = desk.picture(p, box(Math.max(img.width, img.height)));
    document.getElementById("reader-page").replaceChildren(img);
    document.getElementById("reader-where").textContent = `${desk.name}, page ${this.i + 1} of ${desk.pages.length}`;
  }

  key(e) {
    const by = { ArrowRight: 1, ArrowDown: 1, PageDown: 1, " ": 1, ArrowLeft: -1, ArrowUp: -1, PageUp: -1, Home: -1e9, End: 1e9 }[e.key];
    if (by) {
      this.i = Math.max(0, Math.min(desk.pages.length - 1, this.i + by));
      this.show();
    } else if (e.key === "Escape" || e.key.toLowerCase() === "e") {
      this.close();
    } else {
      return;
    }
    e.preventDefault();
  }
}
