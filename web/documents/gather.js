// The list of what is to be combined: it is kept by the server, put into order by dragging, by keys, by name or by date.
import { answer, el } from "../dom.js";
import { press } from "../gesture/press.js";
import { forget, selected } from "./select.js";

export function startGathering() {
  document.addEventListener("click", (e) => {
    if (e.target.closest("#tray-gather")) {
      gather(selected());
      return;
    }
    const act = e.target.closest("#gather [data-gather]");
    if (act) {
      const entry = act.closest("li")?.dataset.entry;
      send(`/gather/${act.dataset.gather}`, { entry, by: act.dataset.byKey });
      return;
    }
    const move = e.target.closest("#tray-order [data-by]");
    if (move) shift(move.closest("li"), Number(move.dataset.by), move);
  });
  document.addEventListener("change", (e) => {
    const pages = e.target.closest?.("#tray-order .tray-pages");
    if (pages) send("/gather/pages", { entry: pages.closest("li").dataset.entry, pages: pages.value });
  });
  document.addEventListener("keydown", (e) => {
    const li = e.target.closest?.("#tray-order li");
    if (!li) return;
    if (e.target.matches(".tray-pages")) {
      if (e.key === "Enter") {
        e.preventDefault(); // it would combine
        e.target.blur();
      }
      return;
    }
    if (e.shiftKey && ["ArrowLeft", "ArrowRight", "ArrowUp", "ArrowDown"].includes(e.key)) {
      shift(li, e.key === "ArrowLeft" || e.key === "ArrowUp" ? -1 : 1);
      e.preventDefault();
    } else if (e.key === "Delete" && e.target === li) {
      send("/gather/remove", { entry: li.dataset.entry });
      e.preventDefault();
    }
  });
  document.addEventListener("pointerdown", (e) => {
    const li = e.target.closest?.("#tray-order li");
    if (li && !e.target.closest("button, input") && e.button === 0) drag(e, li);
  });
}

// gather puts documents on the list.
export async function gather(ids) {
  if (!ids.length) return;
  if (!(await send("/gather", { id: ids.join(",") }))) return;
  forget();
  el("tray-combine").focus();
}

let sent = 0;

// send asks the server to change the list, and shows it as it is then; an answer that a later one overtook is not shown.
async function send(url, values) {
  const body = new URLSearchParams();
  for (const [k, v] of Object.entries(values)) if (v !== undefined) body.set(k, v);
  const no = ++sent;
  const got = await answer(url, { method: "POST", body, headers: { "HX-Request": "true" } });
  if (!got.ok) {
    const said = document.createElement("div");
    said.className = "said problem";
    said.append(Object.assign(document.createElement("p"), { textContent: got.text().replace(/<[^>]*>/g, " ").trim() }));
    el("message")?.replaceChildren(said);
    return false;
  }
  if (no !== sent) return true;
  const now = el("gather");
  const focus = document.activeElement?.closest?.("#tray-order li")?.dataset.entry;
  const t = document.createElement("template");
  t.innerHTML = got.text();
  const then = t.content.firstElementChild;
  // The field with the name stays: somebody may be typing in it.
  el("tray-name").placeholder = then.querySelector("#tray-name").placeholder;
  for (const part of ["#tray-order", "#gather-count", ".tray-quiet", "#tray-combine", "input[name=_request]"]) now.querySelector(part).replaceWith(then.querySelector(part));
  now.hidden = then.hidden;
  if (focus) now.querySelector(`li[data-entry="${focus}"]`)?.focus();
  return true;
}

const entries = () => [...el("tray-order").children];
const order = () => send("/gather/order", { id: entries().map((li) => li.dataset.entry).join(",") });

function shift(li, by, button) {
  const all = entries();
  const to = all.indexOf(li) + by;
  if (to < 0 || to >= all.length) return;
  if (by < 0) all[to].before(li);
  else all[to].after(li);
  (button ?? li).focus();
  order();
}

// drag moves an entry while the pointer goes over the others.
function drag(e, li) {
  const before = entries();
  press(e, {
    start: () => li.classList.add("moving"),
    move: (x, y) => {
      const over = document.elementFromPoint(x, y)?.closest("#tray-order li");
      if (!over || over === li) return;
      const box = over.getBoundingClientRect();
      if (x > box.left + box.width / 2) over.after(li);
      else over.before(li);
    },
    end: () => {
      li.classList.remove("moving");
      order();
    },
    cancel: () => {
      li.classList.remove("moving");
      el("tray-order").replaceChildren(...before);
    },
    scrolls: el("tray-order"),
  });
}
