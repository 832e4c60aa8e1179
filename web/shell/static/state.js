// What the desk shows, as the server sent it, and what only this window knows: where one looks and what is selected. Who wants to
// know of a change listens to it: "look" (another page is looked at), "selected", "resized" (the window, or the size of the page).
export const state = {
  doc: "", seen: "", station: "", place: "", name: "",
  pages: [], // {key, version, w, h}, in order
  at: "", // key of the page that is looked at
  selected: new Set(), // keys
};

let places = new Map(); // key -> index

// load takes the pages that the server sent.
export function load(fields, pages) {
  Object.assign(state, fields);
  state.pages = pages.map(([key, version, w, h]) => ({ key, version, w, h }));
  places = new Map(state.pages.map((p, i) => [p.key, i]));
  state.selected = new Set([...state.selected].filter((k) => places.has(k)));
}

export const index = (key) => places.get(key) ?? -1;
export const page = (key) => state.pages[index(key)];

// look goes to a page; it tells whether it is there.
export function look(key) {
  if (!places.has(key)) return false;
  state.at = key;
  emit("look");
  return true;
}

// select selects pages and nothing else.
export function select(keys) {
  state.selected = new Set(keys);
  emit("selected");
}

const bus = new EventTarget();

// on listens until the signal is aborted.
export function on(name, listener, signal) {
  bus.addEventListener(name, (e) => listener(e.detail), { signal });
}

export function emit(name, detail) {
  bus.dispatchEvent(new CustomEvent(name, { detail }));
}

// picture gives the address of a page's picture whose longest side takes so many pixels of the window.
export const picture = (p, pixels) => `/desk/${state.doc}/picture/${p.key}/${p.version}/${box(pixels)}`;

// box gives the size that the server draws for so many pixels of the window: in steps of 4.
export function box(pixels) {
  const need = pixels * Math.min(window.devicePixelRatio || 1, 3);
  return Math.max(40, Math.min(4400, Math.ceil(need / 4 - 0.01) * 4));
}
