// Taking text on the page: by word, line, paragraph, column or in a frame, with the pointer or the keys. What is taken can be copied and marked.
import { desk } from "./desk.js";
import { answer } from "./answer.js";

const grains = ["word", "line", "paragraph", "column", "frame"];
let grain = "word"; // kept from step to step

export class Take {
  constructor(paper) {
    this.paper = paper;
    this.words = [];
    this.from = this.to = -1; // the first and the last word that is taken, in the order of reading, from the fixed end to the moving one
    this.frame = null;
    this.choice = document.getElementById("grain");
    this.choice.value = grain;
    this.choice.addEventListener("change", () => this.setGrain(this.choice.value));
    this.form = document.getElementById("mark-form");
    this.form.elements.how.addEventListener("change", () => {
      document.getElementById("mark-do").textContent = this.form.elements.how.selectedOptions[0].text;
    });
    document.getElementById("copy-do").addEventListener("click", () => this.copy());
    const el = paper.paper;
    el.classList.add("takes");
    el.addEventListener("pointerdown", (e) => this.down(e));
    el.addEventListener("pointermove", (e) => this.move(e));
    el.addEventListener("pointerup", (e) => this.up(e));
    el.addEventListener("dblclick", (e) => this.unit(e, "word"));
    document.addEventListener("copy", this.onCopy = (e) => {
      if (!el.isConnected) return document.removeEventListener("copy", this.onCopy);
      if (!this.taken() || String(getSelection())) return;
      e.clipboardData.setData("text/plain", this.text);
      e.preventDefault();
    });
  }

  setGrain(g) {
    grain = g;
    this.choice.value = g;
    this.none();
  }

  // looked reads the words of the page that is looked at.
  async looked() {
    const page = desk.page(desk.at);
    if (!page) return;
    if (this.at !== `${page.key} ${page.version}`) {
      this.at = `${page.key} ${page.version}`;
      this.words = [];
      this.none();
      const got = await answer(`/desk/${desk.doc}/words/${page.key}`);
      if (!got.ok || this.at !== `${page.key} ${page.version}`) return;
      this.words = await got.json();
      this.paper.paper.dataset.read = page.key;
      document.getElementById("no-text").hidden = this.words.length > 0;
    }
    this.draw();
  }

  taken() {
    return this.frame !== null ? this.text !== "" : this.from >= 0;
  }

  point(e) {
    const r = this.paper.paper.getBoundingClientRect();
    return [(e.clientX - r.left) / this.paper.now.s, (e.clientY - r.top) / this.paper.now.s];
  }

  // near gives the word at a point, or the one that is nearest.
  near([x, y]) {
    let best = -1;
    let least = Infinity;
    this.words.forEach((w, i) => {
      const [x0, x1] = [Math.min(w.q[0], w.q[2], w.q[4], w.q[6]), Math.max(w.q[0], w.q[2], w.q[4], w.q[6])];
      const [y0, y1] = [Math.min(w.q[1], w.q[3], w.q[5], w.q[7]), Math.max(w.q[1], w.q[3], w.q[5], w.q[7])];
      const dx = Math.max(x0 - x, 0, x - x1);
      const dy = Math.max(y0 - y, 0, y - y1);
      const d = dx + 3 * dy; // along the line rather than across
      if (d < least) [best, least] = [i, d];
    });
    return best;
  }

  down(e) {
    if (e.button !== 0 || !this.words.length) return;
    this.start = this.point(e);
    this.paper.paper.setPointerCapture(e.pointerId);
    if (grain === "frame") {
      this.frame = null;
      this.draw();
      return;
    }
    const i = this.near(this.start);
    if (e.shiftKey && this.from >= 0) this.to = i;
    else this.from = this.to = i;
    this.frame = null;
    this.draw();
  }

  move(e) {
    if (!this.start) return;
    if (grain === "frame") {
      const [x, y] = this.point(e);
      const [a, b] = this.start;
      this.frame = [Math.min(a, x), Math.min(b, y), Math.max(a, x), Math.max(b, y)];
      this.from = this.to = -1;
      this.draw(true);
      return;
    }
    this.to = this.near(this.point(e));
    this.draw();
  }

  up() {
    if (!this.start) return;
    this.start = null;
    this.paper.view.focus({ preventScroll: true });
    if (grain === "frame") this.readFrame();
    else this.draw();
  }

  async readFrame() {
    if (!this.frame || this.frame[2] - this.frame[0] < 3) return this.none();
    const at = this.frame;
    const got = await answer(`/desk/${desk.doc}/frame/${desk.at}?at=${at.map((v) => v.toFixed(2)).join("+")}`);
    if (this.frame !== at || !got.ok) return;
    this.text = await got.text();
    this.draw();
  }

  unit(e, g) {
    const was = grain;
    if (grain === "frame") return;
    grain = g;
    this.from = this.to = this.near(this.point(e));
    this.draw();
    grain = was;
  }

  // ranges gives the words that are taken as runs in the order of reading.
  ranges() {
    if (this.frame) {
      const [x0, y0, x1, y1] = this.frame;
      const out = [];
      this.words.forEach((w, i) => {
        const x = (w.q[0] + w.q[4]) / 2;
        const y = (w.q[1] + w.q[5]) / 2;
        if (x < x0 || x > x1 || y < y0 || y > y1) return;
        if (out.length && out.at(-1)[1] === i - 1) out.at(-1)[1] = i;
        else out.push([i, i]);
      });
      return out;
    }
    if (this.from < 0) return [];
    let [a, b] = [Math.min(this.from, this.to), Math.max(this.from, this.to)];
    const part = { line: "l", paragraph: "p", column: "c" }[grain];
    if (part) {
      while (a > 0 && this.words[a - 1][part] === this.words[a][part]) a--;
      while (b + 1 < this.words.length && this.words[b + 1][part] === this.words[b][part]) b++;
    }
    return [[a, b]];
  }

  draw(drawing = false) {
    const g = this.paper.group("taken");
    const ranges = this.ranges();
    const form = this.form;
    if (this.frame) {
      const [x0, y0, x1, y1] = this.frame;
      g.append(this.paper.polygon([x0, y0, x1, y0, x1, y1, x0, y1], "frame"));
    }
    for (const [a, b] of ranges) {
      for (let i = a; i <= b; i++) {
        const w = this.words[i];
        const next = i < b ? this.words[i + 1] : null;
        // Up to the next word of its line, so that a line is one piece.
        const on = next && next.l === w.l && (next.q[0] - w.q[0]) * (w.q[2] - w.q[0]) + (next.q[1] - w.q[1]) * (w.q[3] - w.q[1]) > 0; // not in text from right to left
        const q = on ? [w.q[0], w.q[1], next.q[0], next.q[1], next.q[6], next.q[7], w.q[6], w.q[7]] : w.q;
        g.append(this.paper.polygon(q, "taken"));
      }
    }
    if (!this.frame) this.text = ranges.map(([a, b]) => this.words.slice(a, b + 1).map((w, i) => (i ? w.s : "") + w.t).join("")).join("\n");
    const box = document.getElementById("taken");
    box.hidden = drawing || ranges.length === 0;
    if (box.hidden) return;
    const n = ranges.reduce((sum, [a, b]) => sum + this.words.slice(a, b + 1).filter((w, i) => i === 0 || w.s).length, 0);
    document.getElementById("taken-text").textContent = this.text.length > 220 ? `${this.text.slice(0, 160)} … ${this.text.slice(-50)}` : this.text;
    document.getElementById("taken-count").textContent = `${n.toLocaleString("en")} ${n === 1 ? "word" : "words"} of page ${desk.index(desk.at) + 1}`;
    form.elements.page.value = desk.at;
    form.elements.words.value = ranges.map(([a, b]) => `${a}-${b}`).join(" ");
  }

  none() {
    this.from = this.to = -1;
    this.frame = null;
    this.text = "";
    this.draw();
  }

  async copy() {
    if (!this.taken()) return;
    const said = document.getElementById("taken-count");
    try {
      await navigator.clipboard.writeText(this.text);
      said.textContent = "Copied.";
    } catch {
      // Without leave for the clipboard: the old way.
      document.execCommand("copy");
      said.textContent = "Copied.";
    }
  }

  key(e) {
    const k = e.key;
    if (k === "Escape" && this.taken()) this.none();
    else if (k === "g" || k === "G") {
      const i = grains.indexOf(grain);
      this.setGrain(grains[(i + 1) % 4]);
    } else if (k === "c" && this.taken()) this.copy();
    else if (k === "m" && this.taken()) document.getElementById("mark-do").click();
    else if (k.startsWith("Arrow") && document.activeElement === this.paper.view && this.words.length && grain !== "frame") this.arrow(k, e.shiftKey);
    else return false;
    e.preventDefault();
    return true;
  }

  arrow(k, extend) {
    const part = { word: null, line: "l", paragraph: "p", column: "c" }[grain];
    let to = this.to < 0 ? 0 : this.to;
    if (this.to >= 0) {
      const forward = k === "ArrowRight" || k === "ArrowDown";
      if (!part && (k === "ArrowUp" || k === "ArrowDown")) to = this.beside(to, forward ? 1 : -1);
      else {
        const now = part && this.words[to][part];
        do to += forward ? 1 : -1;
        while (part && this.words[to] && this.words[to][part] === now);
      }
      to = Math.max(0, Math.min(this.words.length - 1, to));
    }
    this.frame = null;
    if (!extend || this.from < 0) this.from = to;
    this.to = to;
    this.draw();
    this.paper.reveal(this.words[to].q);
  }

  // beside gives the word of the next line, or of the one before, that stands under or over a word.
  beside(i, by) {
    const at = this.words[i];
    const x = (at.q[0] + at.q[2]) / 2;
    let j = i;
    while (this.words[j + by] && this.words[j + by].l === at.l) j += by;
    j += by;
    if (!this.words[j]) return i;
    const line = this.words[j].l;
    let best = j;
    let least = Infinity;
    for (; this.words[j] && this.words[j].l === line; j += by) {
      const d = Math.abs((this.words[j].q[0] + this.words[j].q[2]) / 2 - x);
      if (d < least) [best, least] = [j, d];
    }
    return best;
  }
}
