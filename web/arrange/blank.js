// Blank pages: a caret between two pages says where; those that are there are found and removed.
import { el, count, answer } from "../dom.js";
import { answersTo } from "../keys.js";
import { state, index } from "../state.js";
import { startFields } from "../sentence/fields.js";
import { pageSet } from "../sentence/pageset.js";
import { gaps } from "./gaps.js";

export function mount({ slip, board, signal }) {
  const blank = el("blank-form");
  const odd = el("odd-form");
  const to = el("blank-to");
  startFields(blank, signal);

  function when() {
    const paper = blank.elements.paper.value;
    const on = [paper, paper !== "like its neighbour" && paper !== "own size" ? "named" : "", blank.elements.ruling.value !== "plain" ? "ruled" : ""];
    for (const part of blank.querySelectorAll("[data-when]")) part.hidden = !on.includes(part.dataset.when);
    for (const part of odd.querySelectorAll("[data-when]")) part.hidden = el("odd-by").value !== "0";
    odd.elements.level.value = el("odd-by").value;
  }

  function words() {
    const n = Math.max(1, Number(blank.elements.count.value) || 1);
    el("blank-do").textContent = n === 1 ? "Insert a blank page" : `Insert ${count(n, "blank page")}`;
    const at = /^(|end)$/i.test(to.value.trim()) ? [] : pageSet(to.value, state.pages);
    blank.elements.to.value = at?.length === 1 ? state.pages[at[0]].key : to.value.trim() || "end";
    marks.caret(at?.length === 1 ? at[0] : state.pages.length);
  }

  const marks = gaps(board, signal, {
    click: (before) => {
      to.value = before < state.pages.length ? String(before + 1) : "";
      words();
    },
  });

  blank.addEventListener("input", words, { signal });
  slip.addEventListener("change", when, { signal });
  answersTo("set-mark", () => {
    to.value = String(index(board.cursor) + 1);
    words();
  }, signal);

  // --- those that are there

  el("blank-find").addEventListener("click", async () => {
    el("blank-find").disabled = true;
    el("blank-find").textContent = "Checking the pages …";
    const got = await answer(`/desk/${state.doc}/arrange/blank-pages`);
    if (signal.aborted) return;
    el("blank-find").disabled = false;
    el("blank-find").textContent = "Find blank pages";
    const form = el("blank-remove");
    const keys = got.ok ? got.json().pages.filter((k) => index(k) >= 0) : [];
    el("blank-none").hidden = keys.length > 0;
    el("blank-none").textContent = got.ok ? "No page is blank." : got.text().trim();
    form.hidden = keys.length === 0;
    form.elements.pages.value = keys.join(" ");
    el("blank-found").textContent = `${count(keys.length, "blank page")}: ${keys.map((k) => state.called(index(k))).slice(0, 12).join(", ")}${keys.length > 12 ? " …" : ""}.`;
    board.select(keys);
    if (keys.length) board.reveal(keys[0]);
  }, { signal });

  when();
  words();
}
