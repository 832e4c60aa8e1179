// The finder: typed words find actions, pages and documents; arrows and Enter choose.
import { typing } from "./keys.js";

export function startFinder() {
  let asked = 0;
  let timer = 0;
  const field = () => document.getElementById("finder-field");
  const list = () => document.getElementById("finder-hits");
  const options = () => [...list().querySelectorAll("[role=option]")];

  document.addEventListener("keydown", (e) => {
    if (e.key !== "/" || e.ctrlKey || e.metaKey || e.altKey) return;
    if (typing(e.target) || !field()) return;
    e.preventDefault();
    field().focus();
    field().select();
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
    const answer = await fetch("/find?" + q);
    const html = answer.ok ? await answer.text() : "";
    if (mine !== asked) return;
    list().innerHTML = html;
    show(list().childElementCount > 0);
    select(0);
  }

  function show(open) {
    list().hidden = !open;
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
    else if (e.key === "Enter") all[now]?.querySelector("a").click();
    else if (e.key === "Escape") {
      show(false);
      field().blur();
    } else return;
    e.preventDefault();
  });

  document.addEventListener("focusout", (e) => {
    if (e.target === field()) setTimeout(() => document.activeElement?.closest("#finder") || !field() || show(false), 150);
  });
}
