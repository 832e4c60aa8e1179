// The finder: typed words find actions, pages and documents; arrows and Enter choose.
import { typing } from "./keys.js";
import { answer } from "./answer.js";
import { find, desk } from "./desk.js";
import { lines } from "./find.js";

export function startFinder() {
  let asked = 0;
  let timer = 0;
  const field = () => document.getElementById("finder-field");
  const list = () => document.getElementById("finder-hits");
  const options = () => [...list().querySelectorAll("[role=option]")];

  document.addEventListener("keydown", (e) => {
    const search = (e.ctrlKey || e.metaKey) && !e.altKey && !e.shiftKey && e.key.toLowerCase() === "f";
    if (!search && (e.key !== "/" || e.ctrlKey || e.metaKey || e.altKey || typing(e.target)) || !field()) return;
    e.preventDefault();
    field().focus();
    if (find && !field().value) field().value = find.last; // what was looked for last
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
    const at = document.querySelector("[data-doc]");
    const q = new URLSearchParams({ q: field().value, doc: at?.dataset.doc ?? "", station: at?.dataset.station ?? "" });
    const got = await answer("/find?" + q);
    const html = got.ok ? await got.text() : "";
    if (mine !== asked) return;
    list().innerHTML = html;
    if (find) await text(mine);
    if (mine !== asked) return;
    show(list().childElementCount > 0);
    select(0);
  }

  // text adds the hits in the document that is open, behind actions and pages.
  async function text(mine) {
    const q = field().value;
    const said = document.getElementById("find-said");
    document.getElementById("find-ways").hidden = !q.trim();
    said.textContent = "";
    if (q.trim().length < 2) return q.trim() ? null : find.search("", {});
    const result = await find.search(q, ways());
    if (!result || mine !== asked) return;
    said.classList.toggle("problem", Boolean(result.problem));
    const n = result.hits ?? 0;
    const parts = result.problem ? [] : [n ? `${n.toLocaleString("en")}${result.more ? " and more" : ""} ${n === 1 ? "hit" : "hits"} on ${result.pages.length} ${result.pages.length === 1 ? "page" : "pages"}` : "No hits in this document"];
    if (result.said) parts.push(result.said);
    said.textContent = parts.join("; ");
    const rows = document.createDocumentFragment();
    const most = 200;
    for (const [i, l] of lines(most).entries()) {
      const li = document.createElement("li");
      li.setAttribute("role", "presentation");
      const a = document.createElement("a");
      a.id = `text-${i}`;
      a.setAttribute("role", "option");
      a.setAttribute("aria-selected", "false");
      a.tabIndex = -1;
      a.href = `/desk/${desk.doc}/review?page=${l.page}`;
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
      li.append(a);
      rows.append(li);
    }
    list().querySelector(".none")?.remove();
    const after = [...list().children].find((li) => /^(Document|Text)/.test(li.querySelector(".hit-kind")?.textContent ?? ""));
    list().insertBefore(rows, after ?? null);
  }

  // A hit of the document that is open: on the page that is here, or in Review.
  document.addEventListener("click", (e) => {
    const a = e.target.closest?.("#finder-hits a[data-page]");
    if (!a) return;
    if (!document.getElementById("view")) { // it is shown in Review
      find.choose(a.dataset.page, Number(a.dataset.n));
      return;
    }
    e.preventDefault();
    find.toPage(a.dataset.page, Number(a.dataset.n));
    show(false);
    document.getElementById("view").focus({ preventScroll: true });
  });

  function show(open) {
    document.getElementById("finder-card").hidden = !open;
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
    if (e.target === field()) setTimeout(() => document.activeElement?.closest("#finder") || !field() || show(false), 150);
    else if (e.target.closest?.("#find-ways")) setTimeout(() => document.activeElement?.closest("#finder") || show(false), 150);
  });
}
