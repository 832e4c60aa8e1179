// Selecting documents, in the order in which they were selected, and what is done with them.
import { el, count } from "../dom.js";

let order = []; // ids, in the order they were selected
const row = (id) => document.querySelector(`#document-table tr[data-id="${id}"]`);

// selected gives the ids; forget clears the selection.
export const selected = () => [...order];
export function forget() {
  order = [];
  show();
}

export function startSelecting() {
  document.addEventListener("change", (e) => {
    if (e.target.id === "select-all") {
      const boxes = [...document.querySelectorAll("#document-table tbody input[type=checkbox]")];
      order = e.target.checked ? boxes.map((b) => b.value) : [];
      show();
      return;
    }
    const box = e.target.closest?.("#document-table tbody input[type=checkbox]");
    if (!box) return;
    if (box.checked) order.push(box.value);
    else order = order.filter((id) => id !== box.value);
    show();
  });
  document.addEventListener("click", (e) => {
    if (e.target.closest("#tray-clear")) return forget();
    if (e.target.closest("#tray-out")) location.href = `/handing?id=${order.join(",")}`;
    // A click beside the name selects too: the whole row is the target.
    const tr = e.target.closest("#document-table tbody tr[data-id]");
    if (tr && !e.target.closest("a, button, input, form, details")) tr.querySelector("input[type=checkbox]")?.click();
  });
  const again = () => {
    order = order.filter((id) => row(id));
    show();
  };
  document.addEventListener("htmx:after:swap", again);
  document.addEventListener("rows", again);
  // What was ticked before this script ran, or by the browser on the way back, counts too.
  order = [...document.querySelectorAll("#document-table tbody input[type=checkbox]:checked")].map((b) => b.value);
  show();
}

function show() {
  const tray = el("tray");
  if (!tray) return;
  tray.hidden = order.length === 0;
  for (const tr of document.querySelectorAll("#document-table tbody tr[data-id]")) {
    const on = order.includes(tr.dataset.id);
    tr.classList.toggle("selected", on);
    const box = tr.querySelector("input[type=checkbox]");
    if (box) box.checked = on;
  }
  const pages = order.reduce((n, id) => n + Number(row(id)?.dataset.pages ?? 0), 0);
  el("tray-count").textContent = `${order.length} selected, ${count(pages, "page")}`;
  el("tray-ids").value = order.join(",");
  const all = el("select-all");
  const boxes = document.querySelectorAll("#document-table tbody input[type=checkbox]").length;
  if (all) {
    all.checked = boxes > 0 && order.length === boxes;
    all.indeterminate = order.length > 0 && order.length < boxes;
  }
  el("tray-pictures").hidden = !order.length || !order.every((id) => row(id)?.hasAttribute("data-picture"));
}
