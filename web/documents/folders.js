// The tree of folders: documents and folders are dragged onto a folder's name; typing narrows the tree.
import { el, count } from "../dom.js";
import { press } from "../gesture/press.js";
import { selected } from "./select.js";

export function startFolders() {
  document.addEventListener("input", (e) => {
    if (e.target.id !== "tree-words") return;
    const words = e.target.value.toLowerCase().split(/\s+/).filter(Boolean);
    for (const li of el("tree").children) li.hidden = !words.every((w) => li.dataset.name.toLowerCase().includes(w));
  });
  document.addEventListener("pointerdown", (e) => {
    if (e.button !== 0) return;
    const folder = e.target.closest?.("#tree a[data-mine]");
    if (folder) {
      carry(e, folder.querySelector(".tree-name").textContent.trim(), (to) => send(`/folders/${folder.dataset.folder}/move`, { to }), folder);
      return;
    }
    const tr = e.target.closest?.("#document-table tbody tr[data-id]");
    if (!tr || e.target.closest("button, input, form, details") || !tr.querySelector("input[type=checkbox]")) return;
    const ids = selected().includes(tr.dataset.id) ? selected() : [tr.dataset.id];
    const what = ids.length === 1 ? tr.dataset.name : count(ids.length, "document");
    carry(e, what, (to) => to !== "0" && send("/documents/move", { to, id: ids.join(",") }), null);
  });
  // Links and pictures have a dragging of their own, which would take over.
  document.addEventListener("dragstart", (e) => e.target.closest?.("#tree, #document-table") && e.preventDefault());
}

const send = (url, values) => window.htmx.ajax("POST", url, { values, target: "#swap", swap: "outerHTML" });

// carry shows what is carried, and lets go of it on a folder.
function carry(e, what, drop, own) {
  let badge;
  let over;
  const leave = () => {
    over?.classList.remove("drop-here");
    over = null;
  };
  const done = () => {
    leave();
    badge?.remove();
    // The click that ends it must not open what is under the pointer.
    const swallow = (c) => {
      c.preventDefault();
      c.stopPropagation();
    };
    document.addEventListener("click", swallow, { capture: true, once: true });
    setTimeout(() => document.removeEventListener("click", swallow, { capture: true }), 50);
  };
  press(e, {
    start: () => {
      badge = Object.assign(document.createElement("div"), { className: "carried", textContent: what });
      document.body.append(badge);
    },
    move: (x, y) => {
      badge.style.setProperty("left", `${x + 12}px`);
      badge.style.setProperty("top", `${y + 10}px`);
      const at = document.elementFromPoint(x, y)?.closest("a[data-folder]");
      if (at === over) return;
      leave();
      if (at && at !== own) {
        over = at;
        at.classList.add("drop-here");
        badge.textContent = `${what} → ${at.title || "the top"}`;
      } else badge.textContent = what;
    },
    end: () => {
      const to = over?.dataset.folder;
      done();
      if (to !== undefined) drop(to);
    },
    cancel: done,
  });
}
