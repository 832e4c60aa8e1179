// The desk: what it shows stands in the page that the server sent. After each step the server sends the desk anew; what was
// mounted on the old one is taken down, by one signal, and what the new one names is mounted.
import { el, script, typing } from "./dom.js";
import { answersTo } from "./keys.js";
import { state, load, look, page, index, on, emit } from "./state.js";
import { Board } from "./surface/board.js";
import { Paper } from "./surface/paper.js";
import { Strip } from "./surface/strip.js";
import { Reader } from "./reader.js";
import { startUnapplied } from "./unapplied.js";
import * as find from "./find.js";

let mounted; // the AbortController of what is mounted
let boards; // the board that is mounted
let scrolled = 0; // of the board, kept from step to step

export async function startDesk() {
  const reader = new Reader();
  read();
  const sent = page(el("swap").dataset.show) ?? page(new URL(location.href).searchParams.get("page")) ?? state.pages[0];
  state.at = sent.key;
  answers(reader);
  startUnapplied(say);
  let focused = "";
  document.addEventListener("htmx:before:swap", () => {
    focused = document.activeElement?.id || document.activeElement?.closest?.("[id]")?.id || "";
  });
  document.addEventListener("htmx:after:swap", async () => {
    swatches();
    const swap = el("swap");
    if (!swap || swap.dataset.loaded) return;
    if (el("look")?.open) el("look").close();
    const was = index(state.at);
    read();
    const next = page(swap.dataset.show) ?? page(state.at) ?? state.pages[Math.min(Math.max(was, 0), state.pages.length - 1)];
    state.at = next.key;
    await mount();
    watch();
    (el(focused) ?? el("board") ?? el("view"))?.focus({ preventScroll: true });
  });
  document.addEventListener("click", (e) => {
    const b = e.target.closest?.("[data-go], [data-go-number]");
    if (b) look(b.dataset.go ?? state.pages[Number(b.dataset.goNumber) - 1]?.key);
    if (e.target.closest?.("#reader-open")) reader.open();
    const size = e.target.closest?.("[data-board-size]");
    if (size) boards?.resize(Number(size.dataset.boardSize));
  });
  document.addEventListener("visibilitychange", watch);
  document.addEventListener("input", (e) => {
    if (e.isTrusted && e.target.closest?.("#slip")) e.target.dataset.typed = "yes";
  });
  window.addEventListener("resize", () => emit("resized"));
  on("look", () => {
    const url = new URL(location.href);
    url.searchParams.set("page", state.at);
    history.replaceState(null, "", url);
    links();
  });
  await mount();
  watch();
}

// --- what others do: the window is brought up to date

let watching; // the EventSource
let changedTo; // the newest state of the document that was heard of
let waiting;
export const watched = new Map(); // other documents that are shown: id -> {seen, moved(state), gone()}

// watch listens as long as the window is in sight: a browser keeps only a few connections to a server.
export function watch() {
  watching?.close();
  watching = null;
  if (document.visibilityState !== "visible") return;
  const docs = [`${state.doc}:${state.seen}`, ...[...watched].map(([id, w]) => `${id}:${w.seen()}`)];
  const source = (watching = new EventSource(`/watch?docs=${docs.join(",")}`));
  source.addEventListener("moved", (e) => {
    const [doc, seen] = e.data.split(":");
    if (doc === state.doc) {
      changedTo = seen;
      if (seen !== state.seen) refresh();
    } else watched.get(doc)?.moved(seen);
  });
  source.addEventListener("gone", (e) => {
    if (e.data === state.doc) say("This document was deleted, or you no longer have access to it.");
    else watched.get(e.data)?.gone();
    source.close();
  });
}

// refresh shows the newest state, unless something is written in the slip or under way, which it would take away: then it offers to.
function refresh() {
  clearTimeout(waiting);
  if (document.querySelector("#message .work")) { // its outcome would be lost with it
    waiting = setTimeout(() => changedTo !== state.seen && refresh(), 700);
    return;
  }
  const busy = document.querySelector(".drag-stack, .htmx-request, dialog[open], .edit-field") || [...el("slip").querySelectorAll("input, select, textarea")].some(changedByHand);
  if (!busy) return newest();
  const said = say("Someone changed this document.");
  if (!said) return;
  const b = Object.assign(document.createElement("button"), { type: "button", className: "btn btn-link btn-sm", textContent: "Show the latest version" });
  b.addEventListener("click", newest);
  said.append(b);
}

const changedByHand = (f) => f.type !== "hidden" && f.dataset.typed === "yes";

async function newest() {
  const was = state.seen;
  const seen = { ...Object.fromEntries(new URL(location.href).searchParams), page: state.at };
  await window.htmx.ajax("GET", `/desk/${state.doc}/${state.place}?${new URLSearchParams(seen)}`, { target: "#swap", swap: "outerHTML" });
  if (state.seen !== was && !el("message")?.textContent.trim()) say("Updated: the document has changed.");
}

// say puts a line where messages stand.
export function say(text, problem = false) {
  const said = document.createElement("div");
  said.className = problem ? "said problem" : "said";
  said.append(Object.assign(document.createElement("p"), { textContent: text }));
  el("message")?.replaceChildren(said);
  return said;
}

// read takes over what the server sent.
function read() {
  const swap = el("swap");
  swap.dataset.loaded = "yes";
  const { doc, seen, station, place, name } = swap.dataset;
  load({ doc, seen, station, place, name }, JSON.parse(el("pages").textContent));
}

// mount puts the surfaces and the slip's script on the desk that is there now.
async function mount() {
  mounted?.abort();
  mounted = new AbortController();
  const { signal } = mounted;
  const paper = el("view") ? new Paper(signal) : null;
  const strip = el("strip") ? new Strip(el("strip"), signal) : null;
  const board = (boards = el("board") ? new Board(el("board"), signal, scrolled) : null);
  board?.el.addEventListener("scroll", () => (scrolled = board.el.scrollTop), { passive: true, signal });
  find.mount({ paper, strip }, signal);
  swatches();
  links();
  emit("look");
  const module = el("slip").dataset.module;
  if (!module) return;
  const m = await script(module);
  if (m && !signal.aborted) m.mount({ slip: el("slip"), paper, strip, board, signal });
}

// links has the way lead to the page that is looked at.
function links() {
  for (const a of document.querySelectorAll(".way a")) {
    const url = new URL(a.href);
    url.searchParams.set("page", state.at);
    a.href = url;
  }
}

// swatches shows the colours of marks, which come with the list of these.
function swatches() {
  for (const s of document.querySelectorAll(".swatch")) s.style.background = s.dataset.colour;
}

const by = (n) => look(state.pages[Math.max(0, Math.min(state.pages.length - 1, index(state.at) + n))].key);

// answers to the keys of the desk, whatever is mounted.
function answers(reader) {
  document.addEventListener("keydown", (e) => {
    if (reader.isOpen && !typing(e.target)) reader.key(e);
  }, true);
  window.addEventListener("pagehide", () => watching?.close());
  answersTo("undo", () => el("undo").click());
  answersTo("redo", () => el("redo").click());
  answersTo("reader", () => reader.open());
  answersTo("station", (e) => {
    const to = document.querySelectorAll(".way-to")[Number(e.key) - 1];
    if (!to) return false;
    to.click();
  });
  answersTo("next-page", () => by(1));
  answersTo("previous-page", () => by(-1));
  answersTo("first-page", () => by(-1e9));
  answersTo("last-page", () => by(1e9));
}
