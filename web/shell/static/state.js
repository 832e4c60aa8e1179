// What the desk shows, as the server sent it, and what only this window knows: where one looks and what is selected. Who wants to
// know of a change listens to it: "look" (another page is looked at), "selected", "resized" (the window, or the size of the page).

// A Run is the pages of a document in their order, as a board or a strip shows them.
export class Run {
  doc = "";
  seen = "";
  name = "";
  pages = []; // {key, version, w, h, label}
  at = ""; // key of the page that is looked at
  selected = new Set(); // keys
  before = []; // keys that were selected before, by several

  places = new Map(); // key -> index
  bus = new EventTarget();

  // load takes the pages that the server sent.
  load(fields, pages) {
    Object.assign(this, fields);
    this.pages = pages.map(([key, version, w, h, label]) => ({ key, version, w, h, label }));
    this.places = new Map(this.pages.map((p, i) => [p.key, i]));
    this.selected = new Set([...this.selected].filter((k) => this.places.has(k)));
  }

  index(key) {
    return this.places.get(key) ?? -1;
  }

  page(key) {
    return this.pages[this.index(key)];
  }

  // keys gives those of the selected pages, in order.
  keys() {
    return this.pages.filter((p) => this.selected.has(p.key)).map((p) => p.key);
  }

  // look goes to a page; it tells whether it is there.
  look(key) {
    if (!this.places.has(key)) return false;
    this.at = key;
    this.emit("look");
    return true;
  }

  // select selects pages and nothing else. What a click on one page let go of can be selected again.
  select(keys) {
    const was = [...this.selected];
    this.selected = new Set(keys);
    if (was.length > 1 && this.selected.size < 2) this.before = was;
    if (this.selected.size > 1) this.before = [];
    this.emit("selected");
  }

  // picture gives the address of a page's picture whose longest side takes so many pixels of the window.
  picture(p, pixels) {
    return `/desk/${this.doc}/picture/${p.key}/${p.version}/${box(pixels)}`;
  }

  // called says what a page is called: its label, or its place.
  called(i) {
    return this.pages[i]?.label || String(i + 1);
  }

  on(name, listener, signal) {
    this.bus.addEventListener(name, (e) => listener(e.detail), { signal });
  }

  emit(name, detail) {
    this.bus.dispatchEvent(new CustomEvent(name, { detail }));
  }
}

// The document that is open.
export const state = Object.assign(new Run(), { station: "", place: "" });

export const load = (fields, pages) => state.load(fields, pages);
export const index = (key) => state.index(key);
export const page = (key) => state.page(key);
export const look = (key) => state.look(key);
export const select = (keys) => state.select(keys);
export const on = (name, listener, signal) => state.on(name, listener, signal);
export const emit = (name, detail) => state.emit(name, detail);
export const picture = (p, pixels) => state.picture(p, pixels);

// box gives the size that the server draws for so many pixels of the window: in steps of 4.
export function box(pixels) {
  const need = pixels * Math.min(window.devicePixelRatio || 1, 3);
  return Math.max(40, Math.min(4400, Math.ceil(need / 4 - 0.01) * 4));
}
