// What is written in: a field that keeps the text, its selection and what the keyboard and input methods send, and cannot be seen; what is
// seen is the server's picture, with the caret and the selection drawn over it where the server says that letters stand.
import { answer, plain } from "../dom.js";
import { press } from "../gesture/press.js";
import { state, page, box } from "../state.js";

const pause = 1000; // ms between letters that are undone apart

export class Field {
  // what: {paragraph, line} or {new: {x, y, width}}; sent: what the server said of it; at: where the caret comes, in points.
  constructor({ paper, what, sent, at, typed, tried, changed, leave, signal }) {
    Object.assign(this, { paper, what, sent, typed, tried, changed, leave });
    this.key = state.at;
    this.id = `${Date.now()} ${Math.random()}`; // of its draft
    this.base = sent.text;
    this.value = sent.text;
    this.edits = [];
    this.forms = {};
    this.flags = new Map(); // of the whole: what the style buttons say
    this.past = [];
    this.future = [];
    this.sending = false;
    this.waiting = false;
    this.own = new AbortController();
    signal.addEventListener("abort", () => this.close(), { once: true, signal: this.own.signal });
    const opt = { signal: this.own.signal };
    const f = (this.field = document.createElement("textarea"));
    f.className = "edit-field";
    f.setAttribute("aria-label", what.new ? "New text" : "Paragraph text");
    f.spellcheck = false;
    f.autocomplete = "off";
    f.value = sent.text;
    this.img = Object.assign(document.createElement("img"), { className: "edit-picture", alt: "", hidden: true });
    paper.img.after(this.img);
    paper.paper.append(f);
    f.addEventListener("input", (e) => this.input(e), opt);
    f.addEventListener("compositionend", () => this.input(), opt);
    f.addEventListener("keydown", (e) => this.keydown(e), opt);
    f.addEventListener("keyup", () => this.caret(), opt);
    f.addEventListener("beforeinput", (e) => {
      if (e.inputType === "historyUndo" || e.inputType === "historyRedo") {
        e.preventDefault();
        this.undo(e.inputType === "historyUndo");
      }
    }, opt);
    document.addEventListener("selectionchange", () => document.activeElement === f && this.caret(), opt);
    f.addEventListener("blur", () => this.caret(), opt);
    f.addEventListener("focus", () => this.caret(), opt);
    const i = at ? this.nearest(at) : 0;
    this.place();
    f.focus({ preventScroll: true });
    f.setSelectionRange(this.utf(i), this.utf(i));
    this.caret();
  }

  close() {
    this.closed = true;
    this.own.abort();
    this.field.remove();
    this.img.remove();
    for (const name of ["caret", "selection", "other", "writing"]) this.paper.group(name);
  }

  focus() {
    this.field.focus({ preventScroll: true });
  }

  // draft is what was typed, as it can be kept and taken up again.
  draft() {
    return { id: this.id, key: this.key, what: this.what, base: this.base, value: this.value, edits: this.edits, forms: this.forms, flags: [...this.flags], at: [this.field.selectionStart, this.field.selectionEnd] };
  }

  // resume goes on with a draft of the same text.
  resume({ value, edits, forms, flags, at }) {
    this.past.push(this.shot());
    Object.assign(this, { value, edits: structuredClone(edits), forms: { ...forms }, flags: new Map(flags), kind: "" });
    this.field.value = value;
    this.field.setSelectionRange(...at);
    this.focus();
    this.send();
  }

  // replace puts another text in place of all of it.
  replace(value) {
    this.past.push(this.shot());
    this.edits = [{ from: 0, to: this.letters().length, text: value }];
    this.value = this.field.value = value;
    this.focus();
    this.send();
  }

  dirty() {
    return this.edits.length > 0 || (!this.what.new && Object.keys(this.forms).some((k) => k !== "grow"));
  }

  // --- places in the text: the server counts letters, the field counts units of 16 bits

  letters(text = this.value) {
    return [...text];
  }

  cp(utf) {
    return [...this.value.slice(0, utf)].length;
  }

  utf(cp) {
    return [...this.value].slice(0, cp).join("").length;
  }

  range() {
    return [this.cp(this.field.selectionStart), this.cp(this.field.selectionEnd)];
  }

  // --- what is typed

  input(e) {
    const now = this.field.value.replaceAll("\r", "");
    if (now === this.value) return;
    const was = this.letters();
    const is = this.letters(now);
    const caret = [...now.slice(0, this.field.selectionEnd)].length;
    let tail = Math.min(is.length - caret, was.length);
    for (let k = 0; k < tail; k++) {
      if (was[was.length - 1 - k] !== is[is.length - 1 - k]) {
        tail = k;
        break;
      }
    }
    let head = 0;
    while (head < was.length - tail && head < is.length - tail && was[head] === is[head]) head++;
    this.keep(e?.inputType ?? "");
    this.edit(head, was.length - tail, is.slice(head, is.length - tail).join(""));
    this.value = now;
    this.send();
  }

  // edit notes a change; letters typed one after the other are one.
  edit(from, to, text) {
    const last = this.edits.at(-1);
    if (last && !last.style) {
      const end = last.from + [...last.text].length;
      if (from === to && from === end) {
        last.text += text;
        return;
      }
      if (!text && to === end && from >= last.from) {
        last.text = [...last.text].slice(0, from - last.from).join("");
        if (!last.text && last.from === last.to) this.edits.pop();
        return;
      }
    }
    this.edits.push({ from, to, text });
  }

  // keep notes what undoing goes back to.
  keep(kind) {
    const now = performance.now();
    const goes = kind === this.kind && kind.startsWith("insert") && now - this.kept < pause;
    this.kind = kind;
    this.kept = now;
    if (goes) return;
    this.past.push(this.shot());
    this.future = [];
  }

  shot() {
    return { value: this.value, edits: structuredClone(this.edits), forms: { ...this.forms }, flags: new Map(this.flags), at: [this.field.selectionStart, this.field.selectionEnd] };
  }

  undo(back) {
    const [from, to] = back ? [this.past, this.future] : [this.future, this.past];
    const s = from.pop();
    if (!s) return false;
    to.push(this.shot());
    Object.assign(this, { value: s.value, edits: s.edits, forms: s.forms, flags: s.flags, kind: "" });
    this.field.value = s.value;
    this.field.setSelectionRange(...s.at);
    this.send();
    return true;
  }

  // style gives what is selected, or all of it, another look.
  style(look) {
    let [from, to] = this.range();
    if (from === to) [from, to] = [0, this.letters().length];
    for (const k of ["underline", "strike"]) if (look[k]) this.flags.set(k, look[k] === "yes");
    this.keep("style");
    if (this.what.new) this.what.look = { ...this.what.look, ...(to === this.letters().length && from === 0 ? look : {}) };
    if (to > from) this.edits.push({ from, to, style: true, ...look });
    this.send();
    this.changed();
  }

  has(k) {
    return this.flags.get(k) ?? false;
  }

  form(what) {
    this.keep("form");
    for (const [k, v] of Object.entries(what)) {
      if (v) this.forms[k] = v;
      else delete this.forms[k];
    }
    this.send();
  }

  // --- what the server makes of it

  body() {
    const b = { edits: this.edits, ...this.forms };
    if (this.what.new) {
      const { grow: _g, above: _a, ...forms } = this.forms;
      return { ...forms, new: { page: "1", x: this.what.new.x, y: this.what.new.y, ...(this.what.new.width ? { width: this.what.new.width } : {}), edits: this.edits, ...forms } };
    }
    return { ...b, paragraph: this.what.paragraph, line: this.what.line, last_line: this.what.last_line, join: this.what.join };
  }

  // send asks the server to set it as it is now. One question is under way at a time; the next one asks for the newest.
  async send() {
    this.typed(); // before the server is asked: what is typed is kept, whatever comes of that
    this.began ??= this.sent;
    if (this.sending) {
      this.waiting = true;
      return;
    }
    const { paper } = this;
    if (!this.dirty()) {
      this.img.hidden = true;
      this.sent = this.first ?? this.sent;
      paper.paper.dataset.set = this.sent.text;
      this.caret();
      this.tried(this.sent, "");
      return;
    }
    this.first ??= this.sent;
    this.sending = true;
    this.waiting = false;
    const long = box(Math.max(paper.now.w, paper.now.h));
    const k = long / Math.max(paper.now.w, paper.now.h);
    const v = paper.view;
    const left = v.scrollLeft - paper.paper.offsetLeft;
    const top = v.scrollTop - paper.paper.offsetTop;
    const clip = [left - 40, top - 40, left + v.clientWidth + 40, top + v.clientHeight + 40].map((n) => Math.round(n * k));
    const text = JSON.stringify({ ...this.body(), seen: Number(state.seen), box: long, clip });
    const started = performance.now();
    const got = await answer(`/desk/${state.doc}/edit/set/${this.key}`, { method: "POST", body: text, headers: { "Content-Type": "application/json" }, signal: this.own.signal });
    if (this.closed) return;
    this.sending = false;
    if (got.ok) {
      const sent = got.json();
      this.sent = sent;
      await this.show(sent, k);
      if (this.closed) return;
      this.took = performance.now() - started;
      this.paper.paper.dataset.took = String(Math.round(this.took));
      this.paper.paper.dataset.set = sent.text;
    }
    this.tried(got.ok ? this.sent : null, got.ok ? "" : plain(got.text()));
    if (this.waiting) this.send();
  }

  async show(sent, k) {
    if (sent.picture) {
      const fresh = new Image();
      fresh.className = "edit-picture";
      fresh.alt = "";
      fresh.src = sent.picture;
      await fresh.decode().catch(() => {});
      if (this.closed) return;
      const [x, y, w, h] = sent.at.map((n) => n / k);
      Object.assign(fresh.style, { left: `${x}px`, top: `${y}px`, width: `${w}px`, height: `${h}px` });
      this.img.replaceWith(fresh);
      this.img = fresh;
    }
    this.caret();
  }

  resized() {
    this.caret();
    if (this.dirty()) this.send();
  }

  // --- caret and selection

  // caretAt gives where the place before a letter is: of the text as it is now, as far as the server has set it.
  caretAt(i) {
    const c = this.sent.carets;
    const n = c.length / 5;
    const k = 5 * Math.max(0, Math.min(n - 1, this.setPlace(i)));
    return c.slice(k, k + 5);
  }

  // setPlace takes a place in the text to that in the text which was set last.
  setPlace(i) {
    if (this.sent.text === this.value) return i;
    if (this.placesOf !== this.sent || this.placesFor !== this.value) {
      const was = [...this.sent.text];
      const is = this.letters();
      let head = 0;
      while (head < was.length && head < is.length && was[head] === is[head]) head++;
      Object.assign(this, { placesOf: this.sent, placesFor: this.value, head, by: is.length - was.length });
    }
    return i <= this.head ? i : Math.max(this.head, i - this.by);
  }

  get places() {
    return this.letters().length + 1;
  }

  caret() {
    if (this.closed) return;
    const { paper } = this;
    const [from, to] = this.range();
    const at = this.field.selectionDirection === "backward" ? from : to;
    const [x0, y0, x1, y1] = this.caretAt(at);
    const g = paper.group("caret");
    if (document.activeElement === this.field && from === to) {
      const line = document.createElementNS("http://www.w3.org/2000/svg", "line");
      for (const [k, v] of Object.entries({ x1: x0, y1: y0, x2: x1, y2: y1, class: "caret" })) line.setAttribute(k, v);
      g.append(line);
    }
    const s = paper.group("selection");
    for (const q of this.stretches(from, to)) s.append(paper.polygon(q, "taken"));
    const o = paper.group("other");
    for (const r of this.sent.runs ?? []) if (r.other) for (const q of this.stretches(r.from, r.to)) o.append(paper.polygon(q, "stand-in"));
    const w = paper.group("writing");
    const f = this.frame();
    if (f) w.append(paper.polygon([f[0], f[1], f[2], f[1], f[2], f[3], f[0], f[3]], "written"));
    this.place();
    this.changed();
  }

  // place puts the field where the caret is, so that input methods open their windows there.
  place() {
    const [from, to] = this.range();
    const [x0, y0, x1, y1] = this.caretAt(this.field.selectionDirection === "backward" ? from : to);
    const s = this.paper.now.s;
    Object.assign(this.field.style, { left: `${Math.min(x0, x1) * s}px`, top: `${Math.min(y0, y1) * s}px`, height: `${Math.max(10, Math.abs(y1 - y0) * s)}px` });
  }

  // stretches gives the parts of lines that letters take.
  stretches(from, to) {
    const out = [];
    for (let i = from; i < to; ) {
      const row = this.caretAt(i)[4];
      let k = i;
      while (k < to && this.caretAt(k)[4] === row) k++;
      const a = this.caretAt(i);
      const b = k < this.places && this.caretAt(k)[4] === row ? this.caretAt(k) : this.caretAt(k - 1);
      out.push([a[0], a[1], b[0], b[1], b[2], b[3], a[2], a[3]]);
      i = k;
    }
    return out;
  }

  // frame is the rectangle around it.
  frame() {
    let f = null;
    const c = this.sent.carets;
    for (let i = 0; i < c.length; i += 5) {
      f ??= [c[i], c[i + 1], c[i], c[i + 1]];
      f = [Math.min(f[0], c[i], c[i + 2]), Math.min(f[1], c[i + 1], c[i + 3]), Math.max(f[2], c[i], c[i + 2]), Math.max(f[3], c[i + 1], c[i + 3])];
    }
    return f && [f[0] - 4, f[1] - 3, f[2] + 4, f[3] + 3];
  }

  holds([x, y]) {
    const f = this.frame();
    return Boolean(f) && x >= f[0] - 2 && x <= f[2] + 6 && y >= f[1] && y <= f[3];
  }

  // nearest gives the place that is nearest to a point: first by line, then along it.
  nearest([x, y]) {
    let best = 0;
    let least = Infinity;
    for (let i = 0; i < this.places; i++) {
      const [x0, y0, x1, y1] = this.caretAt(i);
      const ux = x1 - x0;
      const uy = y1 - y0;
      const n = Math.hypot(ux, uy) || 1;
      const up = ((x - x0) * ux + (y - y0) * uy) / n; // along the caret
      const off = Math.abs(((x - x0) * uy - (y - y0) * ux) / n);
      const d = off + 12 * Math.max(0, -up, up - n);
      if (d < least) [best, least] = [i, d];
    }
    return best;
  }

  lookHere() {
    const at = Math.max(0, this.range()[0] - (this.range()[0] === this.range()[1] ? 1 : 0));
    const runs = this.sent.runs ?? [];
    return runs.find((r) => at >= r.from && at < r.to) ?? runs.at(-1);
  }

  // pointer sets the caret, or selects: one click, by word with two, all with three.
  pointer(down) {
    const i = this.nearest(this.paper.point(down));
    const now = performance.now();
    this.clicks = now - (this.clicked ?? 0) < 400 ? (this.clicks ?? 0) + 1 : 1;
    this.clicked = now;
    this.focus();
    if (this.clicks === 3) return this.select(0, this.letters().length);
    if (this.clicks === 2) return this.select(...this.word(i));
    const fixed = down.shiftKey ? this.range()[this.field.selectionDirection === "backward" ? 1 : 0] : i;
    this.select(fixed, i);
    press(down, {
      scrolls: this.paper.view, near: 2, signal: this.own.signal,
      move: (x, y, e) => this.select(fixed, this.nearest(this.paper.point(e))),
      end: () => this.focus(), cancel: () => {}, click: () => this.focus(),
    });
  }

  word(i) {
    const l = this.letters();
    const is = (c) => c !== undefined && /[\p{L}\p{N}’'-]/u.test(c);
    let [a, b] = [i, i];
    while (a > 0 && is(l[a - 1])) a--;
    while (b < l.length && is(l[b])) b++;
    return a === b ? [i, Math.min(l.length, i + 1)] : [a, b];
  }

  select(fixed, moving) {
    const [a, b] = [Math.min(fixed, moving), Math.max(fixed, moving)];
    this.field.setSelectionRange(this.utf(a), this.utf(b), moving < fixed ? "backward" : "forward");
    this.caret();
  }

  keydown(e) {
    if (e.isComposing) return;
    const mod = e.ctrlKey || e.metaKey;
    const key = e.key.length === 1 ? e.key.toLowerCase() : e.key;
    const does = {
      Escape: () => this.leave(false),
      ArrowUp: () => this.rowBy(-1, e.shiftKey),
      ArrowDown: () => this.rowBy(1, e.shiftKey),
      Home: () => !mod && this.rowEnd(false, e.shiftKey),
      End: () => !mod && this.rowEnd(true, e.shiftKey),
    };
    const withMod = {
      z: () => this.undo(!e.shiftKey), y: () => this.undo(false), Enter: () => this.leave(true),
      b: () => this.toggle("bold"), i: () => this.toggle("italic"), u: () => this.toggle("underline"),
    };
    e.stopPropagation();
    const f = mod && withMod[key] ? withMod[key] : does[e.key];
    if (!f || f() === false) return;
    e.preventDefault();
  }

  toggle(k) {
    const r = this.lookHere();
    const on = k === "underline" ? this.has(k) : r?.[k];
    this.style({ [k]: on ? "no" : "yes" });
  }

  // moving gives the fixed and the moving end of the selection.
  ends() {
    const [a, b] = this.range();
    return this.field.selectionDirection === "backward" ? [b, a] : [a, b];
  }

  rowBy(by, extends_) {
    const [fixed, at] = this.ends();
    const [x0, , x1, , row] = this.caretAt(at);
    const x = (x0 + x1) / 2;
    let best = -1;
    let least = Infinity;
    for (let i = 0; i < this.places; i++) {
      const c = this.caretAt(i);
      if (c[4] !== row + by) continue;
      const d = Math.abs((c[0] + c[2]) / 2 - x);
      if (d < least) [best, least] = [i, d];
    }
    if (best < 0) best = by < 0 ? 0 : this.letters().length;
    this.select(extends_ ? fixed : best, best);
  }

  rowEnd(end, extends_) {
    const [fixed, at] = this.ends();
    const row = this.caretAt(at)[4];
    let to = at;
    while (end ? to + 1 < this.places && this.caretAt(to + 1)[4] === row : to > 0 && this.caretAt(to - 1)[4] === row) to += end ? 1 : -1;
    this.select(extends_ ? fixed : to, to);
  }
}

