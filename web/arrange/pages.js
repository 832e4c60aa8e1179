// Arranging pages: what is selected on the board is moved, rotated or removed through the forms of the slip.
import { el, count } from "../dom.js";
import { answersTo } from "../keys.js";
import { state, index, select, box, on } from "../state.js";
import { pageSet, writeSet } from "../sentence/pageset.js";

const seen = 24; // pages that are previewed while they are rotated: those in sight

export function mount({ slip, board, signal }) {
  const rotate = el("rotate-form");
  const move = el("move-form");
  const remove = el("remove-form");
  const set = el("set");
  let asked = 0;

  const angle = () => Number(rotate.elements.by.value);

  // --- what is selected

  on("selected", () => {
    if (document.activeElement !== set) {
      set.value = writeSet(state.pages.map((p, i) => (state.selected.has(p.key) ? i : -1)).filter((i) => i >= 0));
      set.classList.remove("changed");
    }
    words();
    if (angle()) rotating();
  }, signal);

  set.addEventListener("input", () => {
    const at = pageSet(set.value, state.pages.length);
    set.classList.toggle("changed", at === null && set.value.trim() !== "");
    if (!at) return;
    select(at.map((i) => state.pages[i].key));
    if (at.length) board.reveal(state.pages[at[0]].key);
  }, { signal });
  set.addEventListener("keydown", (e) => e.key === "Enter" && board.el.focus(), { signal });
  el("selection-clear").addEventListener("click", () => board.select([]), { signal });

  function words() {
    const n = state.selected.size;
    el("selected-title").textContent = n === 0 ? "Select pages" : `${count(n, "page")} selected`;
    el("with-selected").hidden = n === 0;
    for (const them of slip.querySelectorAll("[data-them]")) them.textContent = n === 1 ? "it" : "them";
    const keys = state.pages.filter((p) => state.selected.has(p.key)).map((p) => p.key).join(" ");
    for (const f of [rotate, move, remove]) f.elements.pages.value = keys;
    el("remove-do").textContent = `Remove ${count(n, "page")}`;
    el("remove-do").disabled = n === state.pages.length;
  }

  // --- rotating: the pages are shown as they would stand; the button or Enter does it

  async function rotating() {
    const by = angle();
    const n = state.selected.size;
    el("rotate-go").hidden = by === 0;
    board.clearPreviews();
    const mine = ++asked;
    if (!by || !n) return;
    const way = { 90: "right", 270: "left", 180: "180 degrees" }[by];
    el("rotate-do").textContent = `Rotate ${count(n, "page")} ${way}`;
    for (const key of board.inSight().filter((k) => state.selected.has(k)).slice(0, seen)) {
      const data = new URLSearchParams(new FormData(rotate));
      data.set("_page", key);
      data.set("_box", String(box(120)));
      try {
        const got = await fetch(`/desk/${state.doc}/preview/rotate`, { method: "POST", body: data, signal });
        const blob = got.ok && (await got.blob());
        if (mine !== asked) return;
        if (blob) board.preview(key, URL.createObjectURL(blob), `rotated ${way}`);
      } catch {
        return; // another desk is shown
      }
    }
  }

  function turn(by) {
    board.selection();
    rotate.elements.by.value = String((angle() + by) % 360);
    rotating();
  }

  function cancel() {
    if (board.cut.size) board.setCut([]);
    else if (angle()) {
      rotate.elements.by.value = "0";
      rotating();
    } else return false;
  }

  rotate.elements.by.addEventListener("change", rotating, { signal });
  el("rotate-cancel").addEventListener("click", cancel, { signal });
  answersTo("rotate-right", () => turn(90), signal);
  answersTo("rotate-left", () => turn(270), signal);
  answersTo("apply", () => (board.focused && angle() ? rotate.requestSubmit() : false), signal);
  answersTo("cancel", cancel, signal);

  // --- moving and removing

  // moveTo asks for the step: the pages come before the one at that index, or to the end. Where they stand there already, nothing is asked.
  function moveTo(keys, before) {
    const moving = new Set(keys);
    const order = state.pages.map((p) => p.key);
    let i = before;
    while (i < order.length && moving.has(order[i])) i++;
    const rest = order.filter((k) => !moving.has(k));
    const at = i < order.length ? rest.indexOf(order[i]) : rest.length;
    if ([...rest.slice(0, at), ...order.filter((k) => moving.has(k)), ...rest.slice(at)].join() === order.join()) return;
    move.elements.pages.value = order.filter((k) => moving.has(k)).join(" ");
    move.elements.to.value = i < order.length ? order[i] : "end";
    move.requestSubmit();
  }

  board.onMove = moveTo;
  const paste = (after) => {
    if (!board.cut.size) return false;
    const cut = [...board.cut];
    board.setCut([]);
    moveTo(cut, index(board.cursor) + after);
  };
  answersTo("cut", () => board.setCut(board.selection()), signal);
  answersTo("paste", () => paste(0), signal);
  answersTo("paste-after", () => paste(1), signal);
  answersTo("remove", () => {
    board.selection();
    remove.requestSubmit();
  }, signal);

  words();
  if (state.selected.size) set.value = writeSet(state.pages.map((p, i) => (state.selected.has(p.key) ? i : -1)).filter((i) => i >= 0));
}
