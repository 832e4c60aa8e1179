// Rows: what is in a document opens below its row; more rows come as one scrolls; the line that says what is listed sends itself.
import { answer, el } from "../dom.js";

export function startRows() {
  document.addEventListener("click", (e) => {
    const b = e.target.closest?.("[data-about]");
    if (b) about(b);
  });
  document.addEventListener("keydown", (e) => {
    const open = e.key === "Escape" && e.target.closest?.("tr.about");
    if (!open) return;
    const b = open.previousElementSibling?.querySelector("[data-about]");
    if (b) about(b);
    b?.focus();
  });
  document.addEventListener("change", (e) => e.target.matches?.("select[data-sends]") && e.target.form.requestSubmit());
  const seen = new IntersectionObserver((list) => {
    for (const i of list) if (i.isIntersecting) i.target.click();
  }, { rootMargin: "400px" });
  const watch = () => document.querySelectorAll("[data-reveals]:not([data-watched])").forEach((b) => {
    b.dataset.watched = "yes";
    seen.observe(b);
  });
  watch();
  document.addEventListener("htmx:after:swap", watch);
  document.addEventListener("rows", watch);
}

async function about(b) {
  const tr = b.closest("tr");
  if (tr.nextElementSibling?.classList.contains("about")) {
    tr.nextElementSibling.remove();
    b.setAttribute("aria-expanded", "false");
    return;
  }
  const got = await answer(`/documents/${b.dataset.about}/about`);
  if (!got.ok) return;
  const t = document.createElement("tbody");
  t.innerHTML = got.text();
  tr.after(t.firstElementChild);
  window.htmx.process(tr.nextElementSibling);
  b.setAttribute("aria-expanded", "true");
  el("document-table")?.dispatchEvent(new CustomEvent("about"));
}
