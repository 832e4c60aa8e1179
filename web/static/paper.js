// The page itself: its picture at a size that suits the screen, a layer in points over
// it, and margin notes level with what they speak of.
import { desk, box } from "./desk.js";

const scales = [0.35, 0.5, 0.67, 0.8, 1, 1.25, 1.5, 2, 2.5, 3, 4]; // of 96 dpi
const full = 96 / 72;
let scale = 0; // 0 fits the whole page; kept from step to step

export class Paper {
  constructor() {
    this.view = document.getElementById("view");
    this.paper = document.getElementById("paper");
    this.img = document.getElementById("paper-picture");
    this.layer = document.getElementById("paper-layer");
    this.margin = document.getElementById("margin");
    document.getElementById("zoom-in").onclick = () => this.zoom(1);
    document.getElementById("zoom-out").onclick = () => this.zoom(-1);
    document.getElementById("zoom-fit").onclick = () => this.fit();
  }

  // size gives the page's size on the screen and the pixels of a point.
  size(page) {
    let s = scale ? scale * full : Math.min((this.view.clientHeight - 34) / page.h, (this.view.clientWidth - 268) / page.w, 3 * full);
    const long = Math.max(page.w, page.h);
    s = Math.max(4, Math.floor((long * s) / 4 + 0.01) * 4) / long; // pixel for pixel with the picture
    return { s, w: page.w * s, h: page.h * s };
  }

  show() {
    const page = desk.page(desk.at);
    if (!page) return;
    this.frame(page);
    const src = desk.picture(page, box(Math.max(this.now.w, this.now.h)));
    this.img.alt = `Page ${desk.index(desk.at) + 1} of ${desk.name}`;
    if (this.img.getAttribute("src") !== src) this.img.src = src;
    this.spot(null);
  }

  frame(page) {
    this.now = this.size(page);
    this.paper.style.width = `${this.now.w}px`;
    this.paper.style.height = `${this.now.h}px`;
    this.margin.style.height = `${this.now.h}px`;
    this.layer.setAttribute("viewBox", `0 0 ${page.w} ${page.h}`);
    document.getElementById("zoom-fit").textContent = scale ? `${Math.round(scale * 100)} %` : "Whole page";
    this.view.setAttribute("aria-label", `Page ${desk.index(desk.at) + 1} of ${desk.pages.length}`);
  }

  // preview shows a picture of the page as it would be.
  preview(blob, page) {
    if (page) this.frame(page);
    if (this.blob) URL.revokeObjectURL(this.blob);
    this.blob = URL.createObjectURL(blob);
    this.img.src = this.blob;
  }

  box() {
    return box(Math.max(this.now?.w ?? 800, this.now?.h ?? 800));
  }

  // group gives an empty group of the layer, for one purpose.
  group(name) {
    let g = this.layer.querySelector(`g[data-for="${name}"]`);
    if (!g) {
      g = document.createElementNS("http://www.w3.org/2000/svg", "g");
      g.dataset.for = name;
      this.layer.append(g);
    }
    g.replaceChildren();
    return g;
  }

  // polygon makes a shape of four corners, in points.
  polygon(q, name) {
    const p = document.createElementNS("http://www.w3.org/2000/svg", "polygon");
    p.setAttribute("points", `${q[0]},${q[1]} ${q[2]},${q[3]} ${q[4]},${q[5]} ${q[6]},${q[7]}`);
    p.setAttribute("class", name);
    return p;
  }

  // reveal scrolls so that a place on the page is seen.
  reveal(q) {
    const top = this.paper.offsetTop + Math.min(q[1], q[3], q[5], q[7]) * this.now.s;
    const left = this.paper.offsetLeft + Math.min(q[0], q[2], q[4], q[6]) * this.now.s;
    const v = this.view;
    if (top < v.scrollTop + 20 || top > v.scrollTop + v.clientHeight - 60) v.scrollTop = top - v.clientHeight / 3;
    if (left < v.scrollLeft || left > v.scrollLeft + v.clientWidth - 60) v.scrollLeft = left - v.clientWidth / 3;
  }

  // notes puts margin notes of one purpose level with what they speak of; those that would lie over one another move down.
  notes(name, list) {
    for (const old of this.margin.querySelectorAll(`[data-for="${name}"]`)) old.remove();
    let free = 0;
    for (const n of [...list].sort((a, b) => a.y - b.y)) {
      const note = document.createElement("button");
      note.type = "button";
      note.className = n.now ? "note hit-note now" : "note hit-note";
      note.dataset.for = name;
      if (n.now) note.setAttribute("aria-current", "true");
      const mark = document.createElement("mark");
      mark.textContent = n.text;
      note.append(n.before, mark, n.after);
      note.onclick = n.go;
      const y = Math.max(free, n.y * this.now.s - 2);
      if (y > this.now.h - 20) break;
      note.style.top = `${y}px`;
      free = y + 42;
      this.margin.append(note);
    }
  }

  // spot frames a place on the page, in points from its upper left corner, with a note beside it.
  spot(at, title, text) {
    this.note(at && at[1], title, text);
    if (!at) return;
    const [x, y, w, h] = at;
    const r = document.createElementNS("http://www.w3.org/2000/svg", "rect");
    for (const [k, v] of Object.entries({ x: x - 4, y: y - 3, width: w + 8, height: h + 6, rx: 3, class: "spot" })) r.setAttribute(k, v);
    this.group("spot").append(r);
  }

  // note puts a margin note at a height of the page, in points from its upper edge; null takes all away.
  note(y, title, text) {
    this.group("spot");
    for (const old of this.margin.querySelectorAll(".note.coming")) old.remove();
    if (y === null) return;
    const note = document.createElement("div");
    note.className = "note coming";
    const strong = document.createElement("strong");
    strong.textContent = title;
    note.append(strong, text);
    this.margin.append(note);
    note.style.top = `${Math.max(0, Math.min(y * this.now.s - 4, this.now.h - 44))}px`;
  }

  zoom(by) {
    const now = this.now.s / full;
    scale = by > 0 ? scales.find((v) => v > now * 1.02) ?? scales.at(-1) : scales.findLast((v) => v < now * 0.98) ?? scales[0];
    this.show();
    document.dispatchEvent(new Event("desk:resized"));
  }

  fit() {
    scale = 0;
    this.show();
    document.dispatchEvent(new Event("desk:resized"));
  }
}
