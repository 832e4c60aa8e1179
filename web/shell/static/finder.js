// The finder: typed words find actions, pages and documents at once, then text: of the document that is open, or, beside no document,
// of all of them. Arrows and Enter choose.
import { el, answer, count } from "./dom.js";
import { answersTo } from "./keys.js";
import { state } from "./state.js";
import * as find from "./find.js";

export function startFinder() {
  let asked = 0;
  let timer = 0;
  let later; // the AbortController of a look into all texts
  const field = () => el("finder-field");
  const list = () => el("finder-hits");
  const onDesk = () => document.body.dataset.screen === "desk";
  const options = () => [...list().querySelectorAll("[role=option]")];

  answersTo("finder", () => {
    if (!field()) return false;
    field().focus();
    if (onDesk() && !field().value) field().value = find.last(); // what was looked for last
    field().select();
    if (field().value) ask();
  });

  const ways = () => Object.fromEntries([...document.querySelectorAll("#find-ways input")].map((i) => [i.name, i.checked]));

  document.addEventListener("change", (e) => {
    if (e.target.closest?.("#find-ways")) ask();
  });

  document.addEventListener("input", (e) => {
    if (e.target !== field()) return;
    clearTimeout(timer);
    timer = setTimeout(ask, 90);
  });

  async function ask() {
    const mine = ++asked;
    later?.abort();
    const typed = field().value;
    const q = new URLSearchParams({ q: typed, doc: state.doc, _place: state.place });
    const got = await answer("/find?" + q);
    if (mine !== asked) return;
    list().innerHTML = got.ok ? got.text() : "";
    if (onDesk()) await text(mine);
    if (mine !== asked) return;
    show(list().childElementCount > 0);
    options().forEach((o, i) => (o.id = `hit-${i}`));
    select(0);
    if (!onDesk() && typed.trim().length > 1) everywhere(typed, mine);
  }

  // everywhere adds pages of all documents, when typing has paused; nobody waits for it.
  async function everywhere(typed, mine) {
    later = new AbortController();
    const { signal } = later;
    await new Promise((r) => setTimeout(r, 200));
    if (signal.aborted) return;
    const got = await answer("/find/text?" + new URLSearchParams({ q: typed }), { signal });
    if (mine !== asked || got.status !== 200) return;
    const rows = document.createElement("template");
    rows.innerHTML = got.text();
    const at = [...list().children].find((li) => li.querySelector(".hit-kind")?.textContent === "Text");
    list().insertBefore(rows.content, at ?? null);
    options().forEach((o, i) => (o.id = `hit-${i}`));
  }

  // text adds the matches in the document that is open, behind actions and pages.
  async function text(mine) {
    const q = field().value;
    const said = el("find-said");
    el("find-ways").hidden = !q.trim();
    said.textContent = "";
    if (q.trim().length < 2) return q.trim() ? null : find.find("", {});
    const result = await find.find(q, ways());
    if (!result || mine !== asked) return;
    said.classList.toggle("problem", Boolean(result.problem));
    const n = result.hits ?? 0;
    const parts = result.problem ? [] : [n ? `${result.more ? "More than " : ""}${count(n, "match", "matches")} on ${count(result.pages.length, "page")}` : "No matches in this document"];
    if (result.said) parts.push(result.said);
    said.textContent = parts.join("; ");
    const rows = document.createDocumentFragment();
    const most = 200;
    for (const l of find.lines(most)) {
      const li = document.createElement("li");
      li.setAttribute("role", "presentation");
      const a = document.createElement("a");
      a.setAttribute("role", "option");
      a.setAttribute("aria-selected", "false");
      a.tabIndex = -1;
      a.href = `/desk/${state.doc}/review?page=${l.page}`;
      a.dataset.page = l.page;
      a.dataset.n = l.n;
      const where = document.createElement("span");
      where.className = "hit-kind";
      where.textContent = `Page ${l.number}`;
      const line = document.createElement("span");
      line.className = "hit-line";
      const mark = document.createElement("mark");
      mark.textContent = l.text;
      line.append(l.before, mark, l.after);
      a.append(where, line);
      if (l.note) line.append(Object.assign(document.createElement("span"), { className: "quiet", textContent: " (in an annotation)" }));
      li.append(a);
      rows.append(li);
    }
    list().querySelector(".none")?.remove();
    const after = [...list().children].find((li) => /^(Document|Text)/.test(li.querySelector(".hit-kind")?.textContent ?? ""));
    list().insertBefore(rows, after ?? null);
  }

  // A match of the document that is open: on the page that is here, or where text is read.
  document.addEventListener("click", (e) => {
    const a = e.target.closest?.("#finder-hits a[data-page]");
    if (!a) return;
    if (!el("view")) {
      find.choose(a.dataset.page, Number(a.dataset.n));
      return;
    }
    e.preventDefault();
    find.toPage(a.dataset.page, Number(a.dataset.n));
    show(false);
    el("view").focus({ preventScroll: true });
  });

  function show(open) {
    el("finder-card").hidden = !open;
    field().setAttribute("aria-expanded", String(open));
    if (!open) field().removeAttribute("aria-activedescendant");
  }

  function select(n) {
    const all = options();
    if (!all.length) return;
    const i = (n + all.length) % all.length;
    all.forEach((o, j) => o.setAttribute("aria-selected", String(i === j)));
    field().setAttribute("aria-activedescendant", all[i].id);
    all[i].scrollIntoView({ block: "nearest" });
  }

  document.addEventListener("keydown", (e) => {
    if (e.target !== field()) return;
    const all = options();
    const now = all.findIndex((o) => o.getAttribute("aria-selected") === "true");
    if (e.key === "ArrowDown") select(now + 1);
    else if (e.key === "ArrowUp") select(now - 1);
    else if (e.key === "Enter") all[now]?.click();
    else if (e.key === "Escape") {
      show(false);
      field().blur();
    } else return;
    e.preventDefault();
  });

  // What was typed before this script was there.
  if (field()?.value && document.activeElement === field()) setTimeout(ask);

  document.addEventListener("focusout", (e) => {
    if (e.target !== field() && !e.target.closest?.("#find-ways")) return;
    setTimeout(() => document.activeElement?.closest("#finder") || !field() || show(false), 150);
  });
}
