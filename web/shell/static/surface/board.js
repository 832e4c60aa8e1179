// The board: the pages of a document in a grid, selected by click, Shift, Ctrl, keys, page set, or a frame drawn around them, and dragged. Several boards
// can stand beside one another: a drag goes from one to another. What becomes of it is for whoever mounted them: they set onDrop.
import { el, hidden, count } from "../dom.js";
import { answersTo } from "../keys.js";
import { press } from "../gesture/press.js";
import { state } from "../state.js";
import { Leaves } from "./leaves.js";

const pad = 12;
const sizes = [56, 72, 92, 124, 168, 232]; // widths of pictures
const usual = 2;

// size is which of the sizes is shown, kept in this browser.
let size = Number(sessionStorage.getItem("board-size") ?? usual);
if (!(size >= 0 && size < sizes.length)) size = usual;

export class Board extends Leaves {
  onDrop = () => {}; // ({from, keys, to, before, copy}): pages of one board come before the page at that index of another, or the same
  group = [this]; // the boards that pages are dragged between

  constructor(grid, signal, scrolled = 0, of = state) {
    super(grid, signal, of);
    this.signal = signal;
    this.cut = new Set();
    this.shown = new Map(); // key -> picture of a preview
    this.marks = null; // (i, leaf): what whoever mounted it shows on a page besides
    this.cursor = of.page(of.at) ? of.at : of.pages[0].key;
    this.anchor = this.cursor;
    this.layout();
    grid.scrollTop = scrolled;
    this.draw();
    grid.addEventListener("pointerdown", (e) => this.press(e), { signal });
    grid.addEventListener("focusin", () => {
      for (const b of this.group) b.last = b === this;
      this.onActive?.(this);
    }, { signal });
    grid.addEventListener("dblclick", (e) => e.target.closest(".leaf") && this.large(), { signal });
    of.on("look", () => {
      this.cursor = of.at;
      this.reveal(this.cursor);
    }, signal);
    of.on("selected", () => this.draw(), signal);
    state.on("resized", () => this.layout(), signal);
    answersTo("go", (e) => this.arrow(e, false), signal);
    answersTo("extend", (e) => this.arrow(e, true), signal);
    answersTo("toggle", () => (this.focused ? this.toggle(this.cursor) : false), signal);
    answersTo("all", () => (this.active ? this.select(of.selected.size === of.pages.length ? [] : of.pages.map((p) => p.key)) : false), signal);
    answersTo("none", () => (this.active ? this.select([]) : false), signal);
    answersTo("select-again", () => (this.active && of.before.length ? this.select(of.before.filter((k) => of.page(k))) : false), signal);
    answersTo("larger", () => (this.active ? this.resize(1) : false), signal);
    answersTo("smaller", () => (this.active ? this.resize(-1) : false), signal);
    answersTo("look", () => (this.active ? this.large() : false), signal);
    signal.addEventListener("abort", () => this.clearPreviews(), { once: true });
  }

  get picW() {
    return sizes[size];
  }

  get picH() {
    return Math.round(sizes[size] * 1.3);
  }

  get cellW() {
    return this.picW + 26;
  }

  get cellH() {
    return this.picH + 40;
  }

  // active tells whether keys that need no focus are meant for this board: it is the last of its group that was used.
  get active() {
    return this.group.length < 2 || this.group.find((b) => b.last) === this || (!this.group.some((b) => b.last) && this.group[0] === this);
  }

  // focused tells whether arrows and Space are meant for the board.
  get focused() {
    const at = document.activeElement;
    return at === this.el || ((at === document.body || at?.id === "stage") && this.active);
  }

  // resize shows all boards' pages larger or smaller; the page under the cursor stays in sight.
  resize(by) {
    const next = Math.max(0, Math.min(sizes.length - 1, size + by));
    if (next === size) return;
    size = next;
    sessionStorage.setItem("board-size", String(size));
    for (const b of this.group) b.renew();
  }

  // renew makes all leaves anew: their size, or the pages, are others.
  renew() {
    for (const leaf of this.leaves.values()) {
      leaf.querySelector("img").removeAttribute("src");
      leaf.remove();
    }
    this.leaves.clear();
    if (!this.of.page(this.cursor)) this.cursor = this.of.page(this.of.at) ? this.of.at : this.of.pages[0].key;
    this.layout();
    this.reveal(this.cursor);
  }

  layout() {
    this.columns = Math.max(1, Math.floor((this.el.clientWidth - 2 * pad) / this.cellW));
    this.run.style.height = `${Math.ceil(this.of.pages.length / this.columns) * this.cellH + pad}px`;
    for (const [i, leaf] of this.leaves) this.place(i, leaf);
    this.draw();
  }

  place(i, leaf) {
    leaf.style.left = `${pad + (i % this.columns) * this.cellW}px`;
    leaf.style.top = `${pad + Math.floor(i / this.columns) * this.cellH}px`;
    leaf.style.width = `${this.cellW}px`;
    leaf.style.height = `${this.cellH}px`;
  }

  draw() {
    const first = Math.max(0, (Math.floor((this.el.scrollTop - pad) / this.cellH) - 1) * this.columns);
    const rows = Math.ceil(this.el.clientHeight / this.cellH) + 3;
    this.drawRange(first, Math.min(this.of.pages.length - 1, first + rows * this.columns - 1));
    const leaf = this.leaf(this.cursor);
    if (leaf) this.el.setAttribute("aria-activedescendant", leaf.id);
  }

  mark(i, leaf) {
    const key = this.of.pages[i].key;
    const selected = this.of.selected.has(key);
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
    this.marks?.(i, leaf);
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
      const i = this.of.index(key);
      this.leaves.get(i)?.remove();
      this.leaves.delete(i);
    }
    this.shown.clear();
    if (!this.signal.aborted) this.draw();
  }

  // inSight gives the keys of the pages that are drawn, from the top.
  inSight() {
    return [...this.leaves.keys()].sort((a, b) => a - b).map((i) => this.of.pages[i].key);
  }

  reveal(key) {
    const top = pad + Math.floor(this.of.index(key) / this.columns) * this.cellH;
    if (top < this.el.scrollTop) this.el.scrollTop = top - pad;
    else if (top + this.cellH > this.el.scrollTop + this.el.clientHeight) this.el.scrollTop = top + this.cellH - this.el.clientHeight;
    this.draw();
  }

  select(keys, anchor) {
    if (anchor) this.anchor = anchor;
    this.of.select(keys);
  }

  // selection gives the selected pages, or with none the one under the cursor, which is selected then.
  selection() {
    if (!this.of.selected.size) this.select([this.cursor], this.cursor);
    return this.of.keys();
  }

  range(a, b) {
    const [i, j] = [this.of.index(a), this.of.index(b)].sort((x, y) => x - y);
    return this.of.pages.slice(i, j + 1).map((p) => p.key);
  }

  toggle(key) {
    const next = new Set(this.of.selected);
    if (!next.delete(key)) next.add(key);
    this.select(next, key);
  }

  // setCut shows pages as cut, until they are pasted.
  setCut(keys) {
    this.cut = new Set(keys);
    this.draw();
  }

  // large shows the page under the cursor as large as the window allows, with the others around it by the arrows.
  large() {
    const dialog = el("large");
    const of = this.of;
    let i = of.index(this.cursor);
    const show = () => {
      const p = of.pages[i];
      const s = Math.min((innerHeight - 130) / p.h, (innerWidth * 0.9) / p.w);
      const img = document.createElement("img");
      img.width = Math.round(p.w * s);
      img.height = Math.round(p.h * s);
      img.alt = `Page ${of.called(i)} of ${of.name}`;
      img.src = of.picture(p, Math.max(img.width, img.height));
      el("large-page").replaceChildren(img);
      el("large-title").textContent = `${of.name}, page ${of.called(i)}${p.label ? ` (${i + 1} of ${of.pages.length})` : ` of ${of.pages.length}`}`;
    };
    show();
    const own = new AbortController();
    dialog.addEventListener("keydown", (e) => {
      const by = { ArrowRight: 1, ArrowDown: 1, ArrowLeft: -1, ArrowUp: -1 }[e.key];
      if (by) {
        e.preventDefault();
        i = Math.max(0, Math.min(of.pages.length - 1, i + by));
        show();
      } else if (e.key === "o") dialog.close();
    }, { signal: own.signal });
    dialog.addEventListener("close", () => {
      own.abort();
      if (this.signal.aborted) return;
      of.look(of.pages[i].key);
      this.el.focus({ preventScroll: true });
    }, { once: true, signal: own.signal });
    dialog.showModal();
  }

  // A selected page keeps the selection until it is clear that nothing is dragged.
  press(e) {
    if (e.button !== 0 || e.target.closest("button, input, a")) return;
    const leaf = e.target.closest(".leaf");
    this.el.focus({ preventScroll: true });
    if (!leaf) {
      if (e.target === this.run || e.target === this.el) this.frame(e);
      return;
    }
    e.preventDefault();
    const key = this.of.pages[Number(leaf.dataset.index)].key;
    const was = this.of.selected.has(key);
    if (e.shiftKey) this.select(this.range(this.anchor, key));
    else if (e.ctrlKey || e.metaKey) was || this.toggle(key); // a selected page may be dragged as a copy; let go, it is not selected any more
    else if (!was) this.select([key], key);
    this.of.look(key);
    press(e, {
      scrolls: this.el,
      signal: this.signal,
      start: () => this.of.selected.has(key) && this.beginDrag(key),
      move: (x, y, m) => this.drag(x, y, m),
      key: (x, y, k) => this.drag(x, y, k),
      end: (u) => {
        const to = this.target;
        const copy = this.copies(u, to);
        this.endDrag();
        if (to) this.onDrop({ from: this, keys: this.moving, to, before: to.before, copy });
      },
      cancel: () => this.endDrag(),
      click: (u) => {
        if (u.ctrlKey || u.metaKey) was && this.toggle(key);
        else if (was && !u.shiftKey) this.select([key], key);
      },
    });
  }

  // frame selects what lies within a frame that is drawn from where the pointer was pressed, beside what is selected already with Shift or Ctrl.
  frame(down) {
    const kept = down.shiftKey || down.ctrlKey || down.metaKey ? [...this.of.selected] : [];
    const at = (x, y) => {
      const r = this.el.getBoundingClientRect();
      return [x - r.left, y - r.top + this.el.scrollTop];
    };
    const [x0, y0] = at(down.clientX, down.clientY);
    let box = null;
    down.preventDefault();
    press(down, {
      scrolls: this.el, signal: this.signal,
      start: () => {
        box = document.createElement("div");
        box.className = "select-frame";
        this.run.append(box);
      },
      move: (x, y) => {
        const [x1, y1] = at(x, y);
        const f = { left: Math.min(x0, x1), top: Math.min(y0, y1), right: Math.max(x0, x1), bottom: Math.max(y0, y1) };
        Object.assign(box.style, { left: `${f.left}px`, top: `${f.top}px`, width: `${f.right - f.left}px`, height: `${f.bottom - f.top}px` });
        this.select([...kept, ...this.within(f)]);
      },
      end: () => box.remove(),
      cancel: () => {
        box.remove();
        this.select(kept);
      },
      click: () => this.select([]),
    });
  }

  // within gives the pages whose pictures a frame touches, whether they are in sight or not.
  within(f) {
    const out = [];
    const first = Math.max(0, Math.floor((f.top - pad) / this.cellH)) * this.columns;
    const last = Math.min(this.of.pages.length, (Math.floor((f.bottom - pad) / this.cellH) + 1) * this.columns);
    for (let i = first; i < last; i++) {
      const x = pad + (i % this.columns) * this.cellW + 10;
      const y = pad + Math.floor(i / this.columns) * this.cellH + 12;
      if (x < f.right && x + this.picW > f.left && y < f.bottom && y + this.picH > f.top) out.push(this.of.pages[i].key);
    }
    return out;
  }

  beginDrag(key) {
    this.moving = this.of.keys();
    this.stack = document.createElement("div");
    this.stack.className = "drag-stack";
    for (const k of [key, ...this.moving.filter((m) => m !== key)].slice(0, 3).reverse()) {
      const img = document.createElement("img");
      img.src = this.of.picture(this.of.page(k), 120);
      img.alt = "";
      const n = this.stack.childElementCount;
      img.style.left = `${n * 5}px`;
      img.style.top = `${n * 5}px`;
      this.stack.append(img);
    }
    this.word = document.createElement("b");
    this.stack.append(this.word);
    document.body.append(this.stack);
    this.target = null;
    return true;
  }

  // copies tells whether pages that are dragged to a board are copied: to another document they are, within one they are moved; Ctrl turns it round.
  copies(e, to) {
    const turned = e?.ctrlKey || e?.metaKey;
    return to && to !== this ? !turned : Boolean(turned);
  }

  // drag puts the insertion mark before the page that the pointer is nearest to, on the board that it is over.
  drag(x, y, e) {
    this.stack.style.left = `${x + 10}px`;
    this.stack.style.top = `${y + 10}px`;
    this.target = null;
    const copy = (b) => this.copies(e, b);
    for (const b of this.group) {
      if (b.over(x, y)) this.target = b;
      else b.unmark();
    }
    const n = this.moving.length;
    if (this.target) {
      const done = copy(this.target) ? (n === 1 ? "1 page will be copied here" : `${n} pages will be copied here`) : n === 1 ? "1 page will move here" : `${n} pages will move here`;
      this.target.markAt(this.target.before, done);
      const other = copy(this.target) ? "move" : "copy";
      this.word.textContent = `${copy(this.target) ? "Copy" : "Move"} ${count(n, "page")} (Ctrl: ${other})`;
    } else this.word.textContent = count(n, "page");
    if (this.target && this.target !== this) this.target.nudge(y);
  }

  // over tells whether a point of the window is over the board, and notes before which page that is.
  over(x, y) {
    const r = this.el.getBoundingClientRect();
    const slack = this.group.length > 1 ? 2 : 30;
    if (x < r.left - slack || x > r.right + slack || y < r.top - slack * 2 || y > r.bottom + slack * 2) return false;
    const n = this.of.pages.length;
    const rows = Math.ceil(n / this.columns);
    const row = Math.max(0, Math.min(rows - 1, Math.floor((y - r.top + this.el.scrollTop - pad) / this.cellH)));
    const inRow = Math.min(this.columns, n - row * this.columns);
    const col = Math.max(0, Math.min(inRow, Math.round((x - r.left - pad) / this.cellW)));
    this.before = row * this.columns + col;
    this.spot = { row, col };
    return true;
  }

  // markAt shows that something comes before the page at an index; said is what.
  markAt(before, said) {
    if (!this.bar) {
      this.bar = document.createElement("div");
      this.bar.className = "insert-bar";
      this.bar.append(document.createElement("span"));
      this.run.append(this.bar);
    }
    const { row, col } = this.spot ?? { row: Math.floor(before / this.columns), col: before % this.columns };
    this.bar.style.left = `${pad + col * this.cellW - 2}px`;
    this.bar.style.top = `${pad + row * this.cellH + 6}px`;
    this.bar.style.height = `${this.cellH - 10}px`;
    this.bar.classList.toggle("left", col > this.columns - 2);
    const where = before < this.of.pages.length ? `before page ${this.of.called(before)}` : "at the end";
    this.bar.firstChild.textContent = `${said}, ${where}`;
  }

  unmark() {
    this.bar?.remove();
    this.bar = null;
    this.spot = null;
  }

  // nudge scrolls a board that something is dragged over near its edges.
  nudge(y) {
    const r = this.el.getBoundingClientRect();
    if (y < r.top + 30) this.el.scrollTop -= 14;
    else if (y > r.bottom - 30) this.el.scrollTop += 14;
  }

  endDrag() {
    this.stack.remove();
    for (const b of this.group) b.unmark();
  }

  arrow(e, extend) {
    if (!this.focused) return false;
    const by = { ArrowLeft: -1, ArrowRight: 1, ArrowUp: -this.columns, ArrowDown: this.columns, Home: -1e9, End: 1e9 }[e.key];
    this.el.classList.add("keys");
    this.el.focus({ preventScroll: true });
    const at = this.of.index(this.cursor);
    const key = this.of.pages[Math.max(0, Math.min(this.of.pages.length - 1, at + by))].key;
    if (extend) {
      if (!this.of.selected.size) this.anchor = this.cursor;
      this.select(this.range(this.anchor, key));
    }
    this.of.look(key);
  }
}
