// The board of Arrange: pages in a grid, chosen by click, Shift, Ctrl, keys or page set,
// and moved by dragging or keys. What it asks for goes through the forms of the slip.
import { desk } from "./desk.js";
import { Leaves, hidden } from "./leaves.js";

const cellW = 118, cellH = 166, pad = 12, far = 5; // far: pixels until a press is a drag

let scrolled = 0; // kept from step to step

export class Board extends Leaves {
  picW = 92;
  picH = 120;

  constructor(el, go) {
    super(el);
    this.go = go;
    this.lifted = new Set();
    this.shown = new Map(); // key -> picture of a preview
    this.cursor = desk.page(desk.at) ? desk.at : desk.pages[0].key;
    this.anchor = this.cursor;
    this.layout();
    el.scrollTop = scrolled;
    this.draw();
    el.addEventListener("scroll", () => (scrolled = el.scrollTop), { passive: true });
    el.addEventListener("pointerdown", (e) => this.press(e));
    el.addEventListener("dblclick", (e) => e.target.closest(".leaf") && document.getElementById("reader-open").click());
  }

  layout() {
    this.columns = Math.max(1, Math.floor((this.el.clientWidth - 2 * pad) / cellW));
    this.run.style.height = `${Math.ceil(desk.pages.length / this.columns) * cellH + 2 * pad}px`;
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
    this.drawRange(first, Math.min(desk.pages.length - 1, first + rows * this.columns - 1));
    const leaf = this.leaf(this.cursor);
    if (leaf) this.el.setAttribute("aria-activedescendant", leaf.id);
  }

  mark(i, leaf) {
    const key = desk.pages[i].key;
    const chosen = desk.chosen.has(key);
    leaf.classList.toggle("chosen", chosen);
    leaf.classList.toggle("cursor", key === this.cursor);
    leaf.classList.toggle("lifted", this.lifted.has(key));
    leaf.setAttribute("aria-selected", String(chosen));
    leaf.querySelector(".is-lifted")?.remove();
    if (this.lifted.has(key)) {
      const is = hidden(", lifted");
      is.classList.add("is-lifted");
      leaf.append(is);
    }
  }

  // coming shows the picture of a page as it would be, with a word.
  coming(key, url, word) {
    const leaf = this.leaf(key);
    if (!leaf) return;
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
    this.shown.set(key, url);
  }

  // asTheyAre takes the previews away.
  asTheyAre() {
    for (const [key, url] of this.shown) {
      URL.revokeObjectURL(url);
      const i = desk.index(key);
      this.leaves.get(i)?.remove();
      this.leaves.delete(i);
    }
    this.shown.clear();
    this.draw();
  }

  setCursor(key) {
    this.cursor = key;
    this.draw();
  }

  reveal(key) {
    const top = pad + Math.floor(desk.index(key) / this.columns) * cellH;
    if (top < this.el.scrollTop) this.el.scrollTop = top - pad;
    else if (top + cellH > this.el.scrollTop + this.el.clientHeight) this.el.scrollTop = top + cellH - this.el.clientHeight;
    this.draw();
  }

  choose(keys, anchor) {
    desk.chosen = new Set(keys);
    if (anchor) this.anchor = anchor;
    this.draw();
    document.dispatchEvent(new Event("desk:chosen"));
  }

  range(a, b) {
    const [i, j] = [desk.index(a), desk.index(b)].sort((x, y) => x - y);
    return desk.pages.slice(i, j + 1).map((p) => p.key);
  }

  // Pressing: a chosen page keeps the choice until it is clear that nothing is dragged.
  press(e) {
    const leaf = e.target.closest(".leaf");
    if (e.button !== 0) return;
    this.el.focus({ preventScroll: true });
    if (!leaf) {
      if (e.target === this.run || e.target === this.el) this.choose([]);
      return;
    }
    e.preventDefault();
    const key = desk.pages[Number(leaf.dataset.index)].key;
    const was = desk.chosen.has(key);
    if (e.shiftKey) this.choose(this.range(this.anchor, key));
    else if (e.ctrlKey || e.metaKey) this.toggle(key);
    else if (!was) this.choose([key], key);
    this.go(key);
    const start = { x: e.clientX, y: e.clientY };
    let dragging = false;
    const move = (m) => {
      if (!dragging && Math.hypot(m.clientX - start.x, m.clientY - start.y) < far) return;
      if (!dragging) {
        if (!desk.chosen.has(key)) return;
        dragging = true;
        this.beginDrag(key);
      }
      this.drag(m.clientX, m.clientY);
    };
    const end = (u, cancelled) => {
      document.removeEventListener("pointermove", move);
      document.removeEventListener("pointerup", up);
      document.removeEventListener("pointercancel", cancel);
      document.removeEventListener("keydown", escape, true);
      if (dragging) this.endDrag(cancelled);
      else if (was && !cancelled && !u.shiftKey && !u.ctrlKey && !u.metaKey) this.choose([key], key);
    };
    const up = (u) => end(u, false);
    const cancel = (u) => end(u, true);
    const escape = (k) => {
      if (k.key !== "Escape") return;
      k.preventDefault();
      k.stopPropagation();
      end(k, true);
    };
    document.addEventListener("pointermove", move);
    document.addEventListener("pointerup", up);
    document.addEventListener("pointercancel", cancel);
    document.addEventListener("keydown", escape, true);
  }

  toggle(key) {
    const next = new Set(desk.chosen);
    if (!next.delete(key)) next.add(key);
    this.choose(next, key);
  }

  beginDrag(key) {
    this.moving = desk.pages.filter((p) => desk.chosen.has(p.key)).map((p) => p.key);
    this.stack = document.createElement("div");
    this.stack.className = "drag-stack";
    for (const k of [key, ...this.moving.filter((m) => m !== key)].slice(0, 3).reverse()) {
      const img = document.createElement("img");
      img.src = desk.picture(desk.page(k), 120);
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
  }

  drag(x, y) {
    this.stack.style.left = `${x + 10}px`;
    this.stack.style.top = `${y + 10}px`;
    const r = this.el.getBoundingClientRect();
    clearInterval(this.scroller);
    const edge = y < r.top + 40 ? -1 : y > r.bottom - 40 ? 1 : 0;
    if (edge) {
      this.scroller = setInterval(() => {
        this.el.scrollTop += edge * 18;
        this.aim(x, y);
      }, 16);
    }
    this.aim(x, y);
  }

  // aim puts the insertion bar before the page that the pointer is nearest to.
  aim(x, y) {
    const r = this.el.getBoundingClientRect();
    const inside = x > r.left - 30 && x < r.right + 30 && y > r.top - 60 && y < r.bottom + 60;
    this.bar.hidden = !inside;
    this.before = -1;
    if (!inside) return;
    const rows = Math.ceil(desk.pages.length / this.columns);
    const row = Math.max(0, Math.min(rows - 1, Math.floor((y - r.top + this.el.scrollTop - pad) / cellH)));
    const inRow = Math.min(this.columns, desk.pages.length - row * this.columns);
    const col = Math.max(0, Math.min(inRow, Math.round((x - r.left - pad) / cellW)));
    this.before = row * this.columns + col;
    this.bar.style.left = `${pad + col * cellW - 2}px`;
    this.bar.style.top = `${pad + row * cellH + 6}px`;
    this.bar.style.height = `${cellH - 14}px`;
    this.bar.classList.toggle("left", col > this.columns - 2);
    const n = this.moving.length;
    this.bar.firstChild.textContent = n === 1 ? "1 page comes here" : `${n} pages come here`;
  }

  endDrag(cancelled) {
    clearInterval(this.scroller);
    this.stack.remove();
    this.bar.remove();
    if (cancelled || this.before < 0) return;
    this.move(this.moving, this.before);
  }

  // move asks for the step: the pages come before the page at that index, or to the end.
  move(keys, before) {
    const moving = new Set(keys);
    let i = before;
    while (i < desk.pages.length && moving.has(desk.pages[i].key)) i++;
    const order = desk.pages.map((p) => p.key);
    const rest = order.filter((k) => !moving.has(k));
    const at = i < order.length ? rest.indexOf(order[i]) : rest.length;
    if ([...rest.slice(0, at), ...order.filter((k) => moving.has(k)), ...rest.slice(at)].join() === order.join()) return;
    const f = document.getElementById("move-form");
    f.elements.keys.value = order.filter((k) => moving.has(k)).join(" ");
    f.elements.to.value = i < order.length ? order[i] : "end";
    f.requestSubmit();
  }

  // key does what a key asks for and tells whether it did anything.
  key(e) {
    const k = e.key;
    const onBoard = document.activeElement === this.el || document.activeElement === document.body || document.activeElement?.id === "stage";
    const arrows = { ArrowLeft: -1, ArrowRight: 1, ArrowUp: -this.columns, ArrowDown: this.columns, Home: -1e9, End: 1e9 };
    if (onBoard && k in arrows) {
      this.el.classList.add("keys");
      this.el.focus({ preventScroll: true });
      const i = Math.max(0, Math.min(desk.pages.length - 1, desk.index(this.cursor) + arrows[k]));
      const key = desk.pages[i].key;
      if (e.shiftKey) {
        if (!desk.chosen.size) this.anchor = this.cursor;
        this.choose(this.range(this.anchor, key));
      }
      this.go(key);
      this.reveal(key);
    } else if (onBoard && k === " ") {
      this.toggle(this.cursor);
    } else if (k.toLowerCase() === "a") {
      this.choose(desk.chosen.size === desk.pages.length ? [] : desk.pages.map((p) => p.key));
    } else if (k.toLowerCase() === "r" || k.toLowerCase() === "l") {
      if (!desk.chosen.size) this.choose([this.cursor], this.cursor);
      document.dispatchEvent(new CustomEvent("desk:turn", { detail: k.toLowerCase() === "r" ? 90 : 270 }));
    } else if (k === "Delete" || k === "Backspace") {
      if (!desk.chosen.size) this.choose([this.cursor], this.cursor);
      document.getElementById("take-out-form").requestSubmit();
    } else if (k.toLowerCase() === "x") {
      if (!desk.chosen.size) this.choose([this.cursor], this.cursor);
      this.lifted = new Set(desk.chosen);
      this.draw();
    } else if (k.toLowerCase() === "v" && this.lifted.size) {
      const lifted = [...this.lifted];
      this.lifted = new Set();
      this.move(lifted, desk.index(this.cursor) + (e.shiftKey ? 1 : 0));
      this.draw();
    } else if (k === "Enter" && onBoard) {
      document.dispatchEvent(new Event("desk:do"));
    } else if (k === "Escape") {
      if (this.lifted.size) this.lifted = new Set();
      else if (!document.dispatchEvent(new Event("desk:leave", { cancelable: true }))) return true;
      else this.choose([]);
      this.draw();
    } else {
      return false;
    }
    e.preventDefault();
    return true;
  }
}
