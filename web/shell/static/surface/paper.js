// The page itself: its picture at a size that suits the screen, a layer in points over
// it, and margin notes level with what they speak of.
import { el } from "../dom.js";
import { answersTo } from "../keys.js";
import { bounds, scaled } from "../geometry.js";
import { state, index, page, picture, box, on, emit, look } from "../state.js";

const scales = [0.35, 0.5, 0.67, 0.8, 1, 1.25, 1.5, 2, 2.5, 3, 4]; // of 96 dpi
const full = 96 / 72;
const svg = "http://www.w3.org/2000/svg";
const kept = new Map(); // station -> how, since the page was loaded

export class Paper {
  constructor(signal) {
    this.view = el("view");
    this.paper = el("paper");
    this.img = el("paper-picture");
    this.layer = el("paper-layer");
    this.margin = el("margin");
    const sent = this.view.dataset.zoom;
    this.how = kept.get(state.station) ?? (sent === "width" || Number(sent) > 0 ? (sent === "width" ? sent : Number(sent)) : "page");
    el("zoom-in").addEventListener("click", () => this.zoom(1), { signal });
    el("zoom-out").addEventListener("click", () => this.zoom(-1), { signal });
    el("zoom-page").addEventListener("click", () => this.set("page"), { signal });
    el("zoom-width").addEventListener("click", () => this.set("width"), { signal });
    answersTo("zoom-in", () => this.zoom(1), signal);
    answersTo("zoom-out", () => this.zoom(-1), signal);
    answersTo("zoom-page", () => this.set("page"), signal);
    answersTo("zoom-width", () => this.set("width"), signal);
    on("look", () => this.show(), signal);
    on("resized", () => this.show(), signal);
    this.view.addEventListener("wheel", (e) => this.wheel(e), { passive: false, signal });
    signal.addEventListener("abort", () => this.blob && URL.revokeObjectURL(this.blob), { once: true });
  }

  show() {
    const p = page(state.at);
    if (!p) return;
    this.frame(p);
    const src = picture(p, Math.max(this.now.w, this.now.h));
    this.img.alt = `Page ${index(state.at) + 1} of ${state.name}`;
    if (this.img.getAttribute("src") !== src) this.img.src = src;
    this.spot(null);
  }

  frame(p) {
    const beside = this.view.clientWidth <= 600 ? 14 : this.how === "width" ? 116 : 204; // the margin with its notes, which lies over the page where there is little room
    this.view.dataset.fit = this.how;
    const s = scaled(this.how, p.w, p.h, this.view.clientWidth - beside - 24, this.view.clientHeight - 17);
    this.now = { s, w: p.w * s, h: p.h * s };
    this.paper.style.width = `${this.now.w}px`;
    this.paper.style.height = `${this.now.h}px`;
    this.margin.style.height = `${this.now.h}px`;
    this.layer.setAttribute("viewBox", `0 0 ${p.w} ${p.h}`);
    el("zoom-page").setAttribute("aria-pressed", String(this.how === "page"));
    el("zoom-width").setAttribute("aria-pressed", String(this.how === "width"));
    el("zoom-now").textContent = `${Math.round((s / full) * 100)}%`;
    const n = index(state.at) + 1;
    const of = `${n.toLocaleString("en")} of ${state.pages.length.toLocaleString("en")}`;
    const label = state.called(n - 1);
    el("stage-where").textContent = label === String(n) ? `Page ${of}` : `Page ${label} (${of})`;
    this.view.setAttribute("aria-label", el("stage-where").textContent);
  }

  // wheel goes on to the next page at the end of one, and back at its beginning: one page a turn, however long the wheel runs on.
  wheel(e) {
    if (e.ctrlKey || e.shiftKey || Math.abs(e.deltaY) < Math.abs(e.deltaX) || document.querySelector(".edit-field")) return;
    const v = this.view;
    const on = e.deltaY > 0;
    const end = on ? v.scrollTop + v.clientHeight >= v.scrollHeight - 1 : v.scrollTop <= 0;
    const scrolls = v.scrollHeight > v.clientHeight + 1;
    const now = performance.now();
    const still = now - (this.wheeled ?? 0) > 180; // the wheel rested: it came to the end before this turn
    this.wheeled = now;
    if (!end) return;
    e.preventDefault();
    const next = state.pages[index(state.at) + (on ? 1 : -1)];
    if (!next || now - (this.turned ?? 0) < 350 || (scrolls && !still)) return;
    this.turned = now;
    look(next.key);
    v.scrollTop = on ? 0 : v.scrollHeight;
  }

  // preview shows a picture of a page as it would be: number of so many, w by h points.
  preview(blob, p) {
    this.frame(p);
    el("stage-where").textContent = `Page ${p.number.toLocaleString("en")} of ${p.of.toLocaleString("en")}, preview`;
    if (this.blob) URL.revokeObjectURL(this.blob);
    this.blob = URL.createObjectURL(blob);
    this.img.src = this.blob;
  }

  box() {
    return box(Math.max(this.now?.w ?? 800, this.now?.h ?? 800));
  }

  // point gives the place of the pointer on the page, in points.
  point(e) {
    const r = this.paper.getBoundingClientRect();
    return [(e.clientX - r.left) / this.now.s, (e.clientY - r.top) / this.now.s];
  }

  // group gives an empty group of the layer, for one purpose.
  group(name) {
    let g = this.layer.querySelector(`g[data-for="${name}"]`);
    if (!g) {
      g = document.createElementNS(svg, "g");
      g.dataset.for = name;
      this.layer.append(g);
    }
    g.replaceChildren();
    return g;
  }

  // polygon makes a shape of four corners, in points.
  polygon(q, name) {
    const p = document.createElementNS(svg, "polygon");
    p.setAttribute("points", `${q[0]},${q[1]} ${q[2]},${q[3]} ${q[4]},${q[5]} ${q[6]},${q[7]}`);
    p.setAttribute("class", name);
    return p;
  }

  // reveal scrolls so that a place on the page is seen.
  reveal(q) {
    const [x, y] = bounds(q);
    const top = this.paper.offsetTop + y * this.now.s;
    const left = this.paper.offsetLeft + x * this.now.s;
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
      if (n.picture) note.append(Object.assign(document.createElement("img"), { src: n.picture, alt: "", loading: "lazy" }));
      note.append(n.before, mark, n.after);
      note.onclick = n.go;
      const y = Math.max(free, n.y * this.now.s - 2);
      if (y > this.now.h - 20) break;
      note.style.top = `${y}px`;
      free = y + (n.picture ? 66 : 42);
      this.margin.append(note);
    }
  }

  // spot shows where something comes to stand: {x, y, w, h, title, text} in points; without a width there is only the note. null
  // takes it away.
  spot(at) {
    const g = this.group("spot");
    for (const old of this.margin.querySelectorAll(".note.coming")) old.remove();
    if (!at) return;
    const note = document.createElement("div");
    note.className = "note coming";
    const strong = document.createElement("strong");
    strong.textContent = at.title;
    note.append(strong, at.text);
    this.margin.append(note);
    note.style.top = `${Math.max(0, Math.min(at.y * this.now.s - 4, this.now.h - 60))}px`;
    if (!at.w) return;
    const r = document.createElementNS(svg, "rect");
    for (const [k, v] of Object.entries({ x: at.x - 4, y: at.y - 3, width: at.w + 8, height: at.h + 6, rx: 3, class: "spot" })) r.setAttribute(k, v);
    g.append(r);
  }

  zoom(by) {
    const now = this.now.s / full;
    this.set(by > 0 ? scales.find((v) => v > now * 1.02) ?? scales.at(-1) : scales.findLast((v) => v < now * 0.98) ?? scales[0]);
  }

  // set sets the size, and keeps it for this person and station.
  set(how) {
    this.how = how;
    kept.set(state.station, how);
    fetch("/me/keep", { method: "POST", body: new URLSearchParams({ name: `zoom ${state.station}`, value: String(how) }) }).catch(() => {});
    emit("resized");
  }
}
