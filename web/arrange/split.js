// Splitting: cuts between pages, set by hand or by a rule, each part with its name, its pages and about what it weighs before it is done.
import { el, count, answer } from "../dom.js";
import { answersTo } from "../keys.js";
import { state, index } from "../state.js";
import { startChips } from "../sentence/chips.js";
import { startFolders } from "../sentence/folder.js";
import { gaps } from "./gaps.js";

let kept = { doc: "", cuts: new Set(), titles: {}, names: new Map(), skip: new Set() }; // as long as the page is not left: by keys of pages

export function mount({ slip, board, signal }) {
  if (kept.doc !== state.doc) kept = { doc: state.doc, cuts: new Set(), titles: {}, names: new Map(), skip: new Set() };
  const rules = el("cuts-form");
  const form = el("split-form");
  let asked = 0;

  const marks = gaps(board, signal, { click: (before) => before > 0 && before < state.pages.length && toggle(state.pages[before].key) });

  function toggle(key) {
    if (index(key) <= 0) return;
    if (!kept.cuts.delete(key)) kept.cuts.add(key);
    show();
  }

  const cuts = () => [...kept.cuts].filter((k) => index(k) > 0).sort((a, b) => index(a) - index(b));

  function when() {
    const by = rules.elements.by.value;
    for (const part of rules.querySelectorAll("[data-when]")) part.hidden = part.dataset.when === "set" ? by === "hand" : part.dataset.when !== by;
    el("cuts-help").hidden = by !== "hand";
    const into = form.elements.into.value;
    for (const part of form.querySelectorAll("[data-when]")) part.hidden = part.dataset.when !== into;
  }

  // --- the rules that set cuts

  rules.addEventListener("submit", async (e) => {
    e.preventDefault();
    if (rules.elements.by.value === "hand") return;
    const said = el("cuts-said");
    said.hidden = false;
    said.textContent = "Checking the pages …";
    const got = await answer(`/desk/${state.doc}/arrange/cuts?${new URLSearchParams(new FormData(rules))}`);
    if (signal.aborted) return;
    if (!got.ok) {
      said.textContent = got.text().trim();
      return;
    }
    const v = got.json();
    said.hidden = true;
    kept.cuts = new Set(v.cuts.filter((k) => index(k) > 0));
    kept.titles = v.titles ?? {};
    kept.skip = new Set(v.skip ?? []);
    kept.names.clear();
    show();
  }, { signal });

  // --- the parts

  function pattern() {
    return [...form.querySelectorAll(".wording > .piece")].map((p) => (p.dataset.field ? { field: p.dataset.field } : { text: p.querySelector("input").value }));
  }

  async function show() {
    const list = cuts();
    el("split-ready").hidden = list.length === 0;
    form.elements.cuts.value = list.join(" ");
    marks.show(list.map((k, i) => ({ before: index(k), word: `part ${i + 2}` })));
    if (!list.length) return;
    const p = pattern();
    form.elements.pattern.value = JSON.stringify(p);
    el("typed-place").hidden = !p.some((x) => x.field === "typed");
    const mine = ++asked;
    const firsts = [state.pages[0].key, ...list];
    const body = new URLSearchParams({ cuts: list.join(" "), pattern: form.elements.pattern.value, typed: form.elements.typed.value, titles: JSON.stringify(firsts.map((k) => kept.titles[k] ?? "")) });
    const got = await answer(`/desk/${state.doc}/arrange/parts`, { method: "POST", body });
    if (mine !== asked || signal.aborted) return;
    const said = el("parts-said");
    if (!got.ok) {
      said.hidden = false;
      said.textContent = got.text().trim();
      el("split-do").disabled = true;
      return;
    }
    draw(got.json().parts, firsts);
  }

  function draw(parts, firsts) {
    const rows = parts.map((p, i) => {
      const key = firsts[i];
      const li = document.createElement("li");
      const name = Object.assign(document.createElement("input"), { className: "in-line wide", name: "name", value: kept.names.get(key) ?? p.name, autocomplete: "off", maxLength: 170 });
      name.setAttribute("aria-label", `Name of part ${i + 1}`);
      name.addEventListener("input", () => {
        if (name.value === p.name) kept.names.delete(key);
        else kept.names.set(key, name.value);
        check();
      });
      const figures = Object.assign(document.createElement("button"), { type: "button", className: "trail-go part-figures", textContent: `${/[-,]/.test(p.pages) ? "pages" : "page"} ${p.pages}, about ${p.weight}` });
      figures.addEventListener("click", () => board.of.look(key));
      const label = document.createElement("label");
      label.className = "choice";
      const take = Object.assign(document.createElement("input"), { type: "checkbox", checked: !kept.skip.has(key) });
      const flag = Object.assign(document.createElement("input"), { type: "hidden", name: "skip", value: kept.skip.has(key) ? "yes" : "no" });
      take.setAttribute("aria-label", `Create part ${i + 1}`);
      take.addEventListener("change", () => {
        take.checked ? kept.skip.delete(key) : kept.skip.add(key);
        flag.value = take.checked ? "no" : "yes";
        li.classList.toggle("left-out", !take.checked);
        check();
      });
      li.classList.toggle("left-out", !take.checked);
      label.append(take);
      li.append(label, flag, name, figures);
      return li;
    });
    el("parts").replaceChildren(...rows);
    check();
  }

  // check tells names that are missing or the same, before anything is done.
  function check() {
    const rows = [...el("parts").children].filter((li) => !li.classList.contains("left-out"));
    const said = el("parts-said");
    const seen = new Map();
    let wrong = rows.length ? "" : "Every part is left out.";
    for (const li of rows) {
      const name = li.querySelector("[name=name]");
      const key = name.value.trim().toLowerCase();
      const twice = key === "" || seen.has(key);
      name.classList.toggle("wrong", twice);
      if (twice && !wrong) wrong = key === "" ? "A part has no name." : `Two parts would be called “${name.value.trim()}”: change a name, or add the counter.`;
      seen.set(key, li);
    }
    said.hidden = wrong === "";
    said.textContent = wrong;
    el("split-do").disabled = wrong !== "";
    el("split-do").textContent = `Create ${count(rows.length, form.elements.into.value === "zip" ? "file" : "document")}`;
  }

  startChips(form, signal);
  startFolders(form, signal);
  form.addEventListener("input", (e) => {
    if (e.target.closest(".parts")) return;
    when();
    if (e.target.name !== "zip" && e.target.name !== "folder" && e.target.name !== "into") show();
    else check();
  }, { signal });
  rules.addEventListener("change", when, { signal });
  el("cuts-clear").addEventListener("click", () => {
    kept.cuts.clear();
    show();
    board.el.focus({ preventScroll: true });
  }, { signal });
  answersTo("set-mark", () => toggle(board.cursor), signal);

  when();
  show();
}
