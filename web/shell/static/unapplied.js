// What is being typed and is not applied yet. Whoever types holds it here: a link that is followed meanwhile applies it first, leaving the page otherwise asks, and
// a draft that the window keeps is offered when the document is opened again.
import { el } from "./dom.js";
import { state } from "./state.js";

let holder = null; // {dirty() -> bool, apply() -> Promise<string>: "" or why not, undo() and redo() -> bool: whether there was something}

// hold is called by whoever types; it ends with the signal, or with release.
export function hold(h, signal) {
  holder = h;
  signal.addEventListener("abort", () => release(h), { once: true });
}

export function release(h) {
  if (holder === h) holder = null;
}

const dirty = () => Boolean(holder?.dirty());

// --- drafts, each with an id: those of a document are kept as long as the window

const name = (doc) => `drafts ${doc}`;
const most = 8;

export const drafts = {
  of(doc) {
    try {
      return JSON.parse(sessionStorage.getItem(name(doc))) ?? [];
    } catch {
      return [];
    }
  },
  keep(doc, draft) {
    set(doc, [draft, ...drafts.of(doc).filter((d) => d.id !== draft.id)].slice(0, most));
  },
  drop(doc, id) {
    set(doc, drafts.of(doc).filter((d) => d.id !== id));
  },
};

function set(doc, list) {
  try {
    if (list.length) sessionStorage.setItem(name(doc), JSON.stringify(list));
    else sessionStorage.removeItem(name(doc));
  } catch {
    // it is full, or not allowed: leaving still asks
  }
}

// leads tells whether a click follows a link in this window to another screen of ours.
export function leads(e, a) {
  if (!a || e.defaultPrevented || e.button !== 0 || e.ctrlKey || e.metaKey || e.shiftKey || e.altKey || a.target || a.hasAttribute("download") || a.hasAttribute("hx-get")) return false;
  const to = new URL(a.href, location.href);
  return to.origin === location.origin && (to.pathname !== location.pathname || to.search !== location.search || !to.hash);
}

// startUnapplied listens for whatever would take away what is typed; say puts a line where messages stand.
export function startUnapplied(say) {
  document.addEventListener("click", async (e) => {
    const history = holder && e.target.closest?.("#undo, #redo");
    if (history && holder[history.id]()) { // within what is typed, as long as there is something
      e.preventDefault();
      e.stopImmediatePropagation();
      return;
    }
    if (!dirty()) return;
    const a = e.target.closest?.("a[href]");
    if (!leads(e, a)) return;
    e.preventDefault();
    e.stopImmediatePropagation();
    const why = await holder.apply();
    if (why) {
      say(`${why.replace(/[.\s]*$/, "")}. Your text is still on the page: change it, or press Esc to drop it.`, true);
      return;
    }
    holder = null;
    location.href = a.href;
  }, true);
  window.addEventListener("beforeunload", (e) => {
    if (dirty()) e.preventDefault();
  });
}

// offer shows the drafts of the document that is open, in a place of the slip; restore gets the one that is wanted.
export function offer(place, restore, signal) {
  place.replaceChildren();
  for (const draft of drafts.of(state.doc)) {
    const p = state.page(draft.key);
    const typed = draft.edits.map((e) => e.text?.trim()).filter(Boolean).join(" … ");
    const text = (typed || draft.value).replace(/\s+/g, " ").trim();
    const said = document.createElement("p");
    said.className = "edge loose";
    said.textContent = `Text that you typed${p ? ` on page ${state.called(state.index(draft.key))}` : ""} was not applied: “${text.length > 90 ? `${text.slice(0, 88)}…` : text}”`;
    const go = document.createElement("p");
    go.className = "go";
    const button = (words, className, f) => {
      const b = Object.assign(document.createElement("button"), { type: "button", className, textContent: words });
      b.addEventListener("click", f, { signal });
      go.append(b, " ");
    };
    if (p) button("Restore text", "btn btn-primary btn-sm", () => restore(draft));
    button("Discard text", "btn btn-outline-primary btn-sm", () => {
      drafts.drop(state.doc, draft.id);
      offer(place, restore, signal);
      el("view")?.focus({ preventScroll: true });
    });
    place.append(said, go);
  }
  place.hidden = !place.childElementCount;
}
