// Keys: the table that the server sends is the one that "?" shows. A key is looked up in it from the first line to the last; who
// answers the line's act is asked, the newest first, and whoever does not give false has answered.
import { el, typing } from "./dom.js";

const answers = new Map(); // act -> functions

// answersTo answers an act until the signal is aborted.
export function answersTo(act, f, signal) {
  const list = answers.get(act) ?? [];
  list.unshift(f);
  answers.set(act, list);
  signal?.addEventListener("abort", () => answers.set(act, answers.get(act).filter((g) => g !== f)), { once: true });
}

// combination names a key press as the table does: "r", "Shift+r", "Ctrl+Shift+z", "ArrowLeft".
export function combination(e) {
  const letter = e.key.length === 1 && e.key.toLowerCase() !== e.key.toUpperCase();
  const key = letter ? e.key.toLowerCase() : e.key;
  const upper = letter && e.key !== e.key.toLowerCase() && !e.getModifierState("CapsLock");
  const shift = upper || (e.shiftKey && (letter || e.key.length > 1 || e.key === " "));
  return `${e.ctrlKey || e.metaKey ? "Ctrl+" : ""}${e.altKey ? "Alt+" : ""}${shift ? "Shift+" : ""}${key}`;
}

function table() {
  const script = el("key-table");
  if (!script) return [];
  script.lines ??= JSON.parse(script.textContent).flatMap((group) => group.Keys);
  return script.lines;
}

// press does what a key press asks for, and tells whether anybody did.
export function press(e) {
  const name = combination(e);
  const inField = typing(e.target);
  if (name === "Ctrl+c" && !inField && !getSelection().isCollapsed) return false; // text of the screen that is selected is the browser's to copy
  for (const line of table()) {
    if (!line.act || !line.keys.includes(name) || (inField && !line.typing)) continue;
    for (const f of answers.get(line.act) ?? []) {
      if (f(e) !== false) {
        e.preventDefault();
        return true;
      }
    }
  }
  return false;
}

export function startKeys() {
  document.addEventListener("keydown", (e) => {
    if (e.defaultPrevented || document.querySelector("dialog[open]")) return;
    press(e);
  });
  answersTo("keys", () => el("keys")?.showModal());
}
