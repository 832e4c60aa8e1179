// Lanes: other documents' pages beside those of the open one. They stay open from step to step, and when the page is loaded again.
import { el, count, answer } from "../dom.js";
import { Run, state } from "../state.js";
import { Board } from "../surface/board.js";
import { say, watch, watched } from "../desk.js";

const kept = () => `lanes-${state.doc}`;
const runs = new Map(); // document -> Run, as long as the page is not left
let order = null; // the documents in lanes, in order
let beside = sessionStorage.getItem("lanes-beside") === "yes";

function opened() {
  if (order?.of !== state.doc) order = { of: state.doc, ids: JSON.parse(sessionStorage.getItem(kept()) ?? "[]") };
  return order.ids;
}

function keep() {
  sessionStorage.setItem(kept(), JSON.stringify(opened()));
}

// load brings the pages of a document into its run, and tells whether it is there.
async function load(id) {
  const got = await answer(`/desk/${state.doc}/arrange/lane/${id}`);
  if (!got.ok) return got.status === 0 ? "The connection was lost." : got.text().trim();
  const lane = got.json();
  const run = runs.get(id) ?? new Run();
  run.load({ doc: String(lane.doc), seen: String(lane.seen), name: lane.name, folder: lane.folder, weight: lane.weight, canUndo: lane.canUndo, canRedo: lane.canRedo, changes: lane.changes }, lane.pages);
  if (!run.page(run.at)) run.at = run.pages[0].key;
  runs.set(id, run);
  return "";
}

// startLanes mounts the lanes that are open, and the field that opens more. It gives the boards, the open document's first, and when they are as the
// server has them now: until then those that were there before are shown, so that no key is meant for another document meanwhile.
export function startLanes({ board, signal, act, active, listen }) {
  const lanes = el("lanes");
  const boards = [board];
  let scrolls = startLanes.scrolls ?? (startLanes.scrolls = new Map());

  function join() {
    for (const b of boards) {
      b.group = boards;
      b.onActive = active;
    }
    lanes.classList.toggle("several", boards.length > 1);
    lanes.classList.toggle("beside", beside && boards.length > 1);
    turn.hidden = boards.length < 2;
    turn.textContent = beside ? "One above the other" : "Side by side";
    for (const b of boards) b.layout();
  }

  const head = (run, own) => {
    const line = document.createElement("div");
    line.className = "lane-line";
    const name = document.createElement("h2");
    name.textContent = run.name;
    const more = Object.assign(document.createElement("span"), { className: "quiet", textContent: own ? count(run.pages.length, "page") : `${run.folder}, ${count(run.pages.length, "page")}, ${run.weight}` });
    line.append(name, more);
    if (own) return line;
    const end = document.createElement("span");
    end.className = "lane-end";
    const button = (text, label, does, off) => {
      const b = Object.assign(document.createElement("button"), { type: "button", className: "btn btn-link btn-sm", textContent: text, disabled: Boolean(off) });
      b.setAttribute("aria-label", label);
      b.addEventListener("click", does, { signal });
      end.append(b);
    };
    button("Undo", `Undo in ${run.name}`, () => act({ what: "undo", lane: run }), !run.canUndo);
    button("Redo", `Redo in ${run.name}`, () => act({ what: "redo", lane: run }), !run.canRedo);
    const to = Object.assign(document.createElement("a"), { href: `/desk/${run.doc}/arrange`, textContent: "Open", className: "btn btn-link btn-sm" });
    end.append(to);
    button("Close", `Close the lane of ${run.name}`, () => close(run.doc));
    line.append(end);
    return line;
  };

  function show(id) {
    const run = runs.get(id);
    const section = document.createElement("section");
    section.className = "lane";
    section.dataset.lane = id;
    section.setAttribute("aria-label", run.name);
    const grid = document.createElement("div");
    grid.className = "board";
    grid.id = `board-${id}`;
    grid.tabIndex = 0;
    grid.setAttribute("role", "listbox");
    grid.setAttribute("aria-multiselectable", "true");
    grid.setAttribute("aria-label", `Pages of ${run.name}`);
    section.append(head(run, false), grid);
    lanes.append(section);
    const b = new Board(grid, signal, scrolls.get(id) ?? 0, run);
    grid.addEventListener("scroll", () => scrolls.set(id, grid.scrollTop), { passive: true, signal });
    b.onDrop = board.onDrop;
    boards.push(b);
    listen(b);
    watched.set(id, {
      seen: () => run.seen,
      moved: async (seen) => {
        if (signal.aborted || seen === run.seen) return;
        if ((await load(id)) || signal.aborted) return;
        renew(id);
        if (document.querySelector(".drag-stack")) say(`“${run.name}” was changed by someone else: check where the pages go.`);
      },
      gone: () => {
        say(`“${run.name}” was deleted, or you no longer have access to it. Its lane is closed; nothing else was changed.`, true);
        close(id);
      },
    });
  }

  // renew shows a lane as its run is now.
  function renew(id) {
    const b = boards.find((x) => x.of.doc === id);
    if (!b) return show(id);
    const section = b.el.closest(".lane");
    section.querySelector(".lane-line").replaceWith(head(b.of, false));
    b.setCut([...b.cut].filter((k) => b.of.page(k)));
    b.renew();
    active(null);
    return null;
  }

  function close(id) {
    order.ids = opened().filter((x) => x !== id);
    keep();
    watched.delete(id);
    const i = boards.findIndex((b) => b.of.doc === id);
    if (i > 0) boards.splice(i, 1);
    lanes.querySelector(`[data-lane="${id}"]`)?.remove();
    join();
    watch();
    active(null);
    board.el.focus({ preventScroll: true });
  }

  async function open(id) {
    id = String(id);
    if (id === state.doc) return say("This document is already open.");
    if (opened().includes(id)) return boards.find((b) => b.of.doc === id)?.el.focus();
    if (opened().length >= 8) return say("You can open up to nine lanes: close one first.");
    const wrong = await load(id);
    if (signal.aborted) return null;
    if (wrong) return say(wrong, true);
    opened().push(id);
    keep();
    show(id);
    join();
    watch();
    active(null);
    boards.at(-1).el.focus({ preventScroll: true });
    boards.at(-1).el.scrollIntoView({ block: "nearest" });
    return null;
  }

  // --- the field that opens a lane
  const tools = el("board-tools");
  const turn = Object.assign(document.createElement("button"), { type: "button", className: "btn btn-link btn-sm", id: "lanes-turn" });
  turn.addEventListener("click", () => {
    beside = !beside;
    sessionStorage.setItem("lanes-beside", beside ? "yes" : "no");
    join();
  }, { signal });
  const field = Object.assign(document.createElement("input"), { type: "search", id: "lane-words", className: "in-line wide", placeholder: "another document beside it", autocomplete: "off" });
  field.setAttribute("aria-label", "Name of a document to open beside this one");
  field.setAttribute("role", "combobox");
  field.setAttribute("aria-controls", "lane-hits");
  field.setAttribute("aria-expanded", "false");
  const hits = Object.assign(document.createElement("ul"), { id: "lane-hits", className: "lane-hits", hidden: true });
  hits.setAttribute("role", "listbox");
  hits.setAttribute("aria-label", "Documents");
  const place = document.createElement("span");
  place.className = "lane-open";
  place.append("Open ", field, hits);
  const files = Object.assign(document.createElement("input"), { type: "file", id: "lane-files", multiple: true, hidden: true });
  tools.replaceChildren(place, turn, files);

  let asked = 0;
  let at = -1;
  const choices = () => [...hits.querySelectorAll("[data-open-lane]")];
  const point = (i) => {
    at = Math.max(-1, Math.min(choices().length - 1, i));
    choices().forEach((b, k) => b.setAttribute("aria-selected", String(k === at)));
    choices()[at]?.scrollIntoView({ block: "nearest" });
  };
  const hide = () => {
    hits.hidden = true;
    field.setAttribute("aria-expanded", "false");
  };
  async function search() {
    const mine = ++asked;
    const got = await answer(`/desk/${state.doc}/arrange/documents?words=${encodeURIComponent(field.value)}`);
    if (mine !== asked || signal.aborted || !got.ok) return;
    hits.innerHTML = got.text();
    hits.hidden = false;
    field.setAttribute("aria-expanded", "true");
    point(field.value.trim() ? 0 : -1);
  }
  let searching = Promise.resolve();
  const look = () => (searching = search());
  field.addEventListener("input", look, { signal });
  field.addEventListener("focus", look, { signal });
  field.addEventListener("blur", () => setTimeout(hide, 150), { signal });
  field.addEventListener("keydown", (e) => {
    if (e.key === "ArrowDown" || e.key === "ArrowUp") point(at + (e.key === "ArrowDown" ? 1 : -1));
    else if (e.key === "Enter") searching.then(() => choices()[Math.max(at, 0)]?.click());
    else if (e.key === "Escape") field.blur();
    else return;
    e.preventDefault();
  }, { signal });
  hits.addEventListener("mousedown", (e) => e.preventDefault(), { signal }); // the field keeps the focus until the click
  hits.addEventListener("click", (e) => {
    const b = e.target.closest("[data-open-lane]");
    if (!b) return;
    field.value = "";
    hide();
    open(b.dataset.openLane);
  }, { signal });

  lanes.querySelector(".lane").prepend(head(state, true));
  for (const id of opened()) if (runs.has(id)) show(id);
  signal.addEventListener("abort", () => watched.clear(), { once: true });
  join();
  const fresh = (async () => {
    for (const id of [...opened()]) {
      const wrong = await load(id);
      if (signal.aborted) return;
      if (wrong) {
        close(id);
        say("A document that was open in a lane has been deleted. Its lane is closed.", true);
      } else renew(id);
    }
    join();
    if (boards.length > 1) watch();
    active(null);
  })();
  arriving(boards, signal, open, act);
  // files of the computer, chosen by keys: they come before the cursor of the board that was used last
  let into = board;
  files.addEventListener("change", () => {
    if (files.files.length) bring([...files.files], into, into.of.index(into.cursor), act);
  }, { signal });
  const add = (b) => {
    into = b;
    files.value = "";
    files.click();
  };
  return { boards, open, add, fresh };
}

// --- files of the computer, and documents of the list, that are dropped

function arriving(boards, signal, open, act) {
  const lanes = el("lanes");
  const files = (e) => [...(e.dataTransfer?.types ?? [])].includes("Files");
  const link = (e) => [...(e.dataTransfer?.types ?? [])].includes("text/uri-list");
  lanes.addEventListener("dragover", (e) => {
    if (!files(e) && !link(e)) return;
    e.preventDefault();
    if (!files(e)) return;
    const n = [...e.dataTransfer.items].filter((i) => i.kind === "file").length;
    for (const b of boards) {
      if (b.over(e.clientX, e.clientY)) b.markAt(b.before, n === 1 ? "1 file will be added here" : `${n} files will be added here`);
      else b.unmark();
    }
  }, { signal });
  lanes.addEventListener("dragleave", (e) => {
    if (!lanes.contains(e.relatedTarget)) for (const b of boards) b.unmark();
  }, { signal });
  lanes.addEventListener("drop", async (e) => {
    const url = e.dataTransfer?.getData("text/uri-list") ?? "";
    const doc = /\/(?:desk|documents)\/(\d+)/.exec(url);
    if (!files(e) && !doc) return;
    e.preventDefault();
    const to = boards.find((b) => b.over(e.clientX, e.clientY));
    for (const b of boards) b.unmark();
    if (!files(e)) {
      open(doc[1]);
      return;
    }
    if (to) await bring([...e.dataTransfer.files], to, to.before, act);
  }, { signal });
}

// bring adds files to the house, and their pages to a board before the page at an index; each one that does not come in is told.
export async function bring(files, to, before, act) {
  const key = to.of.pages[before]?.key ?? "end";
  const wrong = [];
  let came = 0;
  for (const [i, file] of files.entries()) {
    say(files.length === 1 ? `“${file.name}” is being added …` : `“${file.name}” is being added: ${i + 1} of ${files.length} …`);
    const got = await answer(`/documents/add?name=${encodeURIComponent(file.name)}`, { method: "POST", body: file, headers: { "Request-Id": crypto.randomUUID?.() ?? String(Math.random()) } });
    if (!got.ok) {
      wrong.push(said(got));
      continue;
    }
    for (const one of got.json().files) {
      if (!one.id) {
        wrong.push(`“${one.name}”: ${one.sentence}`);
        continue;
      }
      const done = await act({ what: "copy", from: { doc: String(one.id), seen: "0" }, keys: "all", to: to.of, before: key, files: true });
      if (done) came++;
    }
  }
  if (wrong.length) say(`${wrong.join(" ")} ${came ? `${count(came, "file")} came in.` : "Nothing was changed."}`, true);
}

const said = (got) => {
  try {
    const v = got.json();
    return v.sentence ?? v.message ?? got.text();
  } catch {
    return new DOMParser().parseFromString(got.text(), "text/html").body.textContent.trim();
  }
};
