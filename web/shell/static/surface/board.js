// The board: pages in a grid, selected by click, Shift, Ctrl, keys or page set, and dragged. What becomes of a drag is for whoever
// mounted it: it sets onMove.
import { el, hidden } from "../dom.js";
import { answersTo } from "../keys.js";
import { press } from "../gesture/press.js";
import { state, index, page, look, select, picture, on } from "../state.js";
import { Leaves } from "./leaves.js";

const cellW = 118, cellH = 166, pad = 12;

export class Board extends Leaves {
  picW = 92;
  picH = 120;
  onMove = () => {}; // (keys, before): pages come before the one at that index

  constructor(grid, signal, scrolled) {
    super(grid, signal);
    this.signal = signal;
    this.cut = new Set();
    this.shown = new Map(); // key -> picture of a preview
    this.cursor = page(state.at) ? state.at : state.pages[0].key;
    this.anchor = this.cursor;
    this.layout();
    grid.scrollTop = scrolled;
    this.draw();
    grid.addEventListener("pointerdown", (e) => this.press(e), { signal });
    grid.addEventListener("dblclick", (e) => e.target.closest(".leaf") && el("reader-open").click(), { signal });
    on("look", () => {
      this.cursor = state.at;
      this.reveal(this.cursor);
    }, signal);
    on("selected", () => this.draw(), signal);
    on("resized", () => this.layout(), signal);
    answersTo("go", (e) => this.arrow(e, false), signal);
    answersTo("extend", (e) => this.arrow(e, true), signal);
    answersTo("toggle", () => (this.focused ? this.toggle(this.cursor) : false), signal);
    answersTo("all", () => this.select(state.selected.size === state.pages.length ? [] : state.pages.map((p) => p.key)), signal);
    answersTo("none", () => this.select([]), signal);
    signal.addEventListener("abort", () => this.clearPreviews(), { once: true });
  }

  // focused tells whether arrows and Space are meant for the board.
  get focused() {
    const at = document.activeElement;
    return at === this.el || at === document.body || at?.id === "stage";
  }

  layout() {
    this.columns = Math.max(1, Math.floor((this.el.clientWidth - 2 * pad) / cellW));
    this.run.style.height = `${Math.ceil(state.pages.length / this.columns) * cellH + 2 * pad}px`;
    for (const [i, leaf] of this.leaves) this.place(i, leaf);
    this.draw();
  }

  place(i, leaf) {
    leaf.style.left = `${pad + (i % this.columns) * cellW}px`;
    leaf.style.top = `${pad + Math.floor(i / this.columns) * cellH}px`;
    leaf.style.width = `${cellW}px`;
    leaf.style.height = `${cellH}px`;
  }

  draw() {
    const first = Math.max(0, (Math.floor((this.el.scrollTop - pad) / cellH) - 1) * this.columns);
    const rows = Math.ceil(this.el.clientHeight / cellH) + 3;
    this.drawRange(first, Math.min(state.pages.length - 1, first + rows * this.columns - 1));
    const leaf = this.leaf(this.cursor);
    if (leaf) this.el.setAttribute("aria-activedescendant", leaf.id);
  }

  mark(i, leaf) {
    const key = state.pages[i].key;
    const selected = state.selected.has(key);
    leaf.classList.toggle("selected", selected);
    leaf.classList.toggle("cursor", key === this.cursor);
    leaf.classList.toggle("cut", this.cut.has(key));
    leaf.setAttribute("aria-selected", String(selected));
    leaf.querySelector(".is-cut")?.remove();
    if (this.cut.has(key)) {
      const is = hidden(", cut");
      is.classList.add("is-cut");
      leaf.append(is);
    }
  }

  // preview shows the picture of a page as it would be, with a word.
  preview(key, url, word) {
    const leaf = this.leaf(key);
    if (!leaf) return URL.revokeObjectURL(url);
    const img = leaf.querySelector("img");
    img.onload = () => {
      const s = Math.min(this.picW / img.naturalWidth, this.picH / img.naturalHeight);
      img.width = img.naturalWidth * s;
      img.height = img.naturalHeight * s;
    };
    img.src = url;
    leaf.querySelector(".as")?.remove();
    const as = document.createElement("span");
    as.className = "as";
    as.textContent = word;
    leaf.append(as);
    if (this.shown.has(key)) URL.revokeObjectURL(this.shown.get(key));
    this.shown.set(key, url);
  }

  clearPreviews() {
    for (const [key, url] of this.shown) {
      URL.revokeObjectURL(url);
      const i = index(key);
      this.leaves.get(i)?.remove();
      this.leaves.delete(i);
    }
    this.shown.clear();
    if (!this.signal.aborted) this.draw();
  }

  // inSight gives the keys of the pages that are drawn, from the top.
  inSight() {
    return [...this.leaves.keys()].sort((a, b) => a - b).map((i) => state.pages[i].key);
  }

  reveal(key) {
    const top = pad + Math.floor(index(key) / this.columns) * cellH;
    if (top < this.el.scrollTop) this.el.scrollTop = top - pad;
    else if (top + cellH > this.el.scrollTop + this.el.clientHeight) this.el.scrollTop = top + cellH - this.el.clientHeight;
    this.draw();
  }

  select(keys, anchor) {
    if (anchor) this.anchor = anchor;
    select(keys);
  }

  // selection gives the selected pages, or with none the one under the cursor, which is selected then.
  selection() {
    if (!state.selected.size) this.select([this.cursor], this.cursor);
    return state.pages.filter((p) => state.selected.has(p.key)).map((p) => p.key);
  }

  range(a, b) {
    const [i, j] = [index(a), index(b)].sort((x, y) => x - y);
    return state.pages.slice(i, j + 1).map((p) => p.key);
  }

  toggle(key) {
    const next = new Set(state.selected);
    if (!next.delete(key)) next.add(key);
    this.select(next, key);
  }

  // setCut shows pages as cut, until they are pasted.
  setCut(keys) {
    this.cut = new Set(keys);
    this.draw();
  }

  // A selected page keeps the selection until it is clear that nothing is dragged.
  press(e) {
    if (e.button !== 0) return;
    const leaf = e.target.closest(".leaf");
    this.el.focus({ preventScroll: true });
    if (!leaf) {
      if (e.target === this.run || e.target === this.el) this.select([]);
      return;
    }
    e.preventDefault();
    const key = state.pages[Number(leaf.dataset.index)].key;
    const was = state.selected.has(key);
    if (e.shiftKey) this.select(this.range(this.anchor, key));
    else if (e.ctrlKey || e.metaKey) this.toggle(key);
    else if (!was) this.select([key], key);
    look(key);
    press(e, {
      scrolls: this.el,
      signal: this.signal,
      start: () => state.selected.has(key) && this.beginDrag(key),
      move: (x, y) => this.drag(x, y),
      end: () => {
        this.endDrag();
        if (this.before >= 0) this.onMove(this.moving, this.before);
      },
      cancel: () => this.endDrag(),
      click: (u) => was && !u.shiftKey && !u.ctrlKey && !u.metaKey && this.select([key], key),
    });
  }

  beginDrag(key) {
    this.moving = state.pages.filter((p) => state.selected.has(p.key)).map((p) => p.key);
    this.stack = document.createElement("div");
    this.stack.className = "drag-stack";
    for (const k of [key, ...this.moving.filter((m) => m !== key)].slice(0, 3).reverse()) {
      const img = document.createElement("img");
      img.src = picture(page(k), 120);
      img.alt = "";
      const n = this.stack.childElementCount;
      img.style.left = `${n * 5}px`;
      img.style.top = `${n * 5}px`;
      this.stack.append(img);
    }
    const b = document.createElement("b");
    b.textContent = this.moving.length;
    this.stack.append(b);
    document.body.append(this.stack);
    this.bar = document.createElement("div");
    this.bar.className = "insert-bar";
    this.bar.append(document.createElement("span"));
    this.run.append(this.bar);
    this.before = -1;
    return true;
  }

  // drag puts the insertion bar before the page that the pointer is nearest to.
  drag(x, y) {
    this.stack.style.left = `${x + 10}px`;
    this.stack.style.top = `${y + 10}px`;
    const r = this.el.getBoundingClientRect();
    const inside = x > r.left - 30 && x < r.right + 30 && y > r.top - 60 && y < r.bottom + 60;
    this.bar.hidden = !inside;
    this.before = -1;
    if (!inside) return;
    const rows = Math.ceil(state.pages.length / this.columns);
    const row = Math.max(0, Math.min(rows - 1, Math.floor((y - r.top + this.el.scrollTop - pad) / cellH)));
    const inRow = Math.min(this.columns, state.pages.length - row * this.columns);
    const col = Math.max(0, Math.min(inRow, Math.round((x - r.left - pad) / cellW)));
    this.before = row * this.columns + col;
    this.bar.style.left = `${pad + col * cellW - 2}px`;
    this.bar.style.top = `${pad + row * cellH + 6}px`;
    this.bar.style.height = `${cellH - 14}px`;
    this.bar.classList.toggle("left", col > this.columns - 2);
    const n = this.moving.length;
    this.bar.firstChild.textContent = n === 1 ? "1 page comes here" : `${n} pages come here`;
  }

  endDrag() {
    this.stack.remove();
    this.bar.remove();
  }

  arrow(e, extend) {
    if (!this.focused) return false;
    const by = { ArrowLeft: -1, ArrowRight: 1, ArrowUp: -this.columns, ArrowDown: this.columns, Home: -1e9, End: 1e9 }[e.key];
    this.el.classList.add("keys");
    this.el.focus({ preventScroll: true });
    const key = state.pages[Math.max(0, Math.min(state.pages.length - 1, index(this.cursor) + by))].key;
    if (extend) {
      if (!state.selected.size) this.anchor = this.cursor;
      this.select(this.range(this.anchor, key));
    }
    look(key);
  }
}
