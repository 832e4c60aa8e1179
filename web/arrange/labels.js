// Page labels: for what is selected on the board, or written as a page set.
import { el, count } from "../dom.js";
import { state, on } from "../state.js";
import { pageSet, writeSet } from "../sentence/pageset.js";

export function mount({ board, signal }) {
  const form = el("label-form");
  const set = el("set");

  function written() {
    const style = form.elements.style.value;
    const first = Math.max(1, Number(form.elements.first.value) || 1);
    const at = pageSet(set.value, state.pages) ?? [];
    const one = (n) => form.elements.prefix.value + number(n, style);
    const some = [0, 1, 2].slice(0, at.length).map((i) => one(first + i));
    el("label-like").textContent = at.length ? `${count(at.length, "page")}: ${some.join(", ")}${at.length > 4 ? ", …" : ""}${at.length > 3 ? `, ${one(first + at.length - 1)}` : ""}` : "Select pages, or type a page set.";
    el("label-do").textContent = at.length ? `Label ${count(at.length, "page")}` : "Label pages";
    el("label-do").disabled = !at.length;
  }

  on("selected", () => {
    if (document.activeElement !== set) set.value = writeSet(state.pages.map((p, i) => (state.selected.has(p.key) ? i : -1)).filter((i) => i >= 0));
    written();
  }, signal);
  set.addEventListener("input", () => {
    const at = pageSet(set.value, state.pages);
    if (at) board.select(at.map((i) => state.pages[i].key));
  }, { signal });
  form.addEventListener("input", written, { signal });
  if (state.selected.size) state.emit("selected");
  written();
}

// number writes n as labels do (ISO 32000-2, table 161).
export function number(n, style) {
  switch (style) {
    case "1 2 3":
      return String(n);
    case "i ii iii":
      return roman(n);
    case "I II III":
      return roman(n).toUpperCase();
    case "a b c":
      return letters(n);
    case "A B C":
      return letters(n).toUpperCase();
  }
  return "";
}

const letters = (n) => (n > 26 * 64 ? String(n) : String.fromCharCode(97 + ((n - 1) % 26)).repeat(1 + Math.floor((n - 1) / 26)));

function roman(n) {
  if (n > 3999) return String(n);
  let s = "";
  for (const [v, r] of [[1000, "m"], [900, "cm"], [500, "d"], [400, "cd"], [100, "c"], [90, "xc"], [50, "l"], [40, "xl"], [10, "x"], [9, "ix"], [5, "v"], [4, "iv"], [1, "i"]]) {
    for (; n >= v; n -= v) s += r;
  }
  return s;
}
