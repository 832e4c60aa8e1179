// Arranging pages: what is selected on a board is moved, copied, rotated, removed and more, through the forms of the slip, in the open document or in the
// lane that was used last.
import { el, count } from "../dom.js";
import { answersTo } from "../keys.js";
import { state, box } from "../state.js";
import { pageSet, writeSet } from "../sentence/pageset.js";
import { say } from "../desk.js";
import { startLanes } from "./lanes.js";

const seen = 24; // pages that are previewed while they are rotated: those in sight
const ways = { 90: "right", 270: "left", 180: "180 degrees" };

let held = null; // pages that were cut or copied to be pasted: {doc, keys, copy}

export function mount({ slip, board, signal }) {
  const form = (name) => el(`${name}-form`);
  const rotate = form("rotate");
  const move = form("move");
  const remove = form("remove");
  const set = el("set");
  const more = el("more");
  let asked = 0;
  let lanes = { boards: [board], open: () => {}, fresh: Promise.resolve() };
  let cur = board; // the board that was used last

  const angle = () => Number(rotate.elements.by.value);
  const run = () => cur.of;
  const here = () => cur === board;

  // act asks for something that may concern other documents than the open one; it tells whether it was done.
  async function act({ what, from, keys, to, before, lane, values, files }) {
    await lanes.fresh; // what was asked for right after a step stands on what that step made
    if (signal.aborted) return false;
    const data = { what, _seen: state.seen, _place: state.place, _request: newId() };
    if (from) Object.assign(data, { from: from.doc, seen_from: from.seen, pages: keys, to: to.doc, seen_to: to.seen, before });
    if (lane) Object.assign(data, { lane: lane.doc, seen_lane: lane.seen });
    Object.assign(data, values);
    if (files) data.files = "yes";
    const was = el("swap");
    await window.htmx.ajax("POST", `/desk/${state.doc}/arrange/act`, { target: "#swap", swap: "outerHTML", values: data });
    return el("swap") !== was;
  }

  const newId = () => {
    const b = crypto.getRandomValues(new Uint8Array(12));
    return [...b].map((x) => x.toString(16).padStart(2, "0")).join("");
  };

  // --- what is selected

  function listen(b) {
    b.of.on("selected", () => {
      if (b !== cur) return;
      if (document.activeElement !== set) {
        set.value = writeSet(run().pages.map((p, i) => (run().selected.has(p.key) ? i : -1)).filter((i) => i >= 0));
        set.classList.remove("changed");
      }
      words();
      if (angle()) rotating();
    }, signal);
  }

  function active(b) {
    cur = b && lanes.boards.includes(b) ? b : lanes.boards.includes(cur) ? cur : board;
    for (const x of lanes.boards) x.el.closest(".lane").classList.toggle("active", x === cur && lanes.boards.length > 1);
    set.value = writeSet(run().pages.map((p, i) => (run().selected.has(p.key) ? i : -1)).filter((i) => i >= 0));
    words();
  }

  set.addEventListener("input", () => {
    const at = pageSet(set.value, run().pages);
    set.classList.toggle("changed", at === null && set.value.trim() !== "");
    if (!at) return;
    cur.select(at.map((i) => run().pages[i].key));
    if (at.length) cur.reveal(run().pages[at[0]].key);
  }, { signal });
  set.addEventListener("keydown", (e) => e.key === "Enter" && cur.el.focus(), { signal });
  el("selection-clear").addEventListener("click", () => cur.select([]), { signal });
  el("select-again").addEventListener("click", () => cur.select(run().before.filter((k) => run().page(k))), { signal });

  function words() {
    const r = run();
    const n = r.selected.size;
    el("selected-title").textContent = n === 0 ? "Select pages" : `${count(n, "page")} selected`;
    el("of-lane").textContent = lanes.boards.length > 1 ? `Of “${r.name}”: ` : "";
    el("with-selected").hidden = n === 0;
    el("selected-before").hidden = !(r.before.length > 1 && n < 2);
    el("select-again").textContent = `Select the ${r.before.length} pages again (B)`;
    for (const them of slip.querySelectorAll("[data-them]")) them.textContent = n === 1 ? "it" : "them";
    const keys = r.keys().join(" ");
    for (const f of slip.querySelectorAll("form")) if (f.elements.pages) f.elements.pages.value = keys;
    el("remove-do").textContent = `Remove ${count(n, "page")}`;
    el("remove-do").disabled = n === r.pages.length;
    for (const b of slip.querySelectorAll("[data-says]")) b.textContent = `${b.dataset.says} ${count(n, "page")}`;
    const other = lanes.boards.length > 1;
    const where = el("move-where");
    const wanted = lanes.boards.map((b) => b.of.doc).join();
    if (!other) where.replaceChildren();
    else if (where.dataset.of !== wanted) {
      const choice = document.createElement("select");
      choice.className = "in-line";
      choice.id = "move-lane";
      choice.setAttribute("aria-label", "Of which document");
      for (const b of lanes.boards) choice.append(new Option(b.of.name, b.of.doc));
      where.replaceChildren(" of ", choice);
    }
    where.dataset.of = other ? wanted : "";
    moving();
    const from = form("replace").elements.from;
    from.replaceChildren(...lanes.boards.filter((b) => b !== board).map((b) => new Option(b.of.name, `state:${b.of.seen}`)));
    for (const option of more.options) option.disabled = (!here() && !["", "duplicate", "reverse"].includes(option.value)) || (option.value === "replace" && !other);
    if (more.selectedOptions[0]?.disabled) {
      more.value = "";
      which();
    }
  }

  function moving() {
    el("move-do").textContent = el("move-how").value === "copy" ? "Copy" : "Move";
  }
  el("move-how").addEventListener("change", moving, { signal });

  // what else can be done with them
  function which() {
    for (const part of slip.querySelectorAll("[data-more]")) part.hidden = part.dataset.more !== more.value;
    const at = run().pages.map((p, i) => (run().selected.has(p.key) ? i : -1)).filter((i) => i >= 0);
    if (more.value === "interleave") {
      const half = Math.ceil(at.length / 2);
      form("interleave").elements.fronts.value = writeSet(at.slice(0, half));
      form("interleave").elements.backs.value = writeSet(at.slice(half));
    } else if (more.value === "extract") {
      const name = form("extract").elements.name;
      name.value ||= `${state.name}, pages ${writeSet(at)}`.slice(0, 170);
    } else if (more.value === "replace") {
      const source = lanes.boards.find((b) => b !== board);
      if (source) form("replace").elements.with.value = writeSet(source.of.pages.map((p, i) => (source.of.selected.has(p.key) ? i : -1)).filter((i) => i >= 0));
    }
  }
  more.addEventListener("change", which, { signal });

  // Forms ask the open document; what another lane shows goes another way.
  slip.addEventListener("submit", (e) => {
    const name = e.target.id.replace("-form", "");
    if (name === "move") {
      e.preventDefault();
      e.stopPropagation();
      byForm();
    } else if (!here() && ["rotate", "remove", "duplicate", "reverse"].includes(name)) {
      e.preventDefault();
      e.stopPropagation();
      const values = Object.fromEntries(new FormData(e.target));
      for (const k of ["_seen", "_place", "_request"]) delete values[k];
      act({ what: name, lane: run(), values });
    }
  }, { signal, capture: true });

  function byForm() {
    const doc = el("move-lane")?.value ?? run().doc;
    const to = lanes.boards.find((b) => b.of.doc === doc) ?? cur;
    const text = el("move-to").value.trim().toLowerCase();
    let before = to.of.pages.length;
    if (text !== "" && text !== "end") {
      const at = text === "first" ? [0] : pageSet(text, to.of.pages);
      if (!at || at.length !== 1) return say(`“${to.of.name}” has no page “${text}”: type one page, or leave the field empty for the end.`, true);
      before = at[0];
    }
    return drop({ from: cur, keys: run().keys(), to, before, copy: el("move-how").value === "copy" });
  }

  // --- rotating: the pages are shown as they would stand; the button or Enter does it

  async function rotating() {
    const by = angle();
    const n = run().selected.size;
    el("rotate-go").hidden = by === 0;
    for (const b of lanes.boards) b.clearPreviews();
    const mine = ++asked;
    if (!by || !n) return;
    const way = ways[by];
    el("rotate-do").textContent = `Rotate ${count(n, "page")} ${way}`;
    for (const key of cur.inSight().filter((k) => run().selected.has(k)).slice(0, seen)) {
      const data = new URLSearchParams(new FormData(rotate));
      data.set("_seen", run().seen);
      data.set("_page", key);
      data.set("_box", String(box(cur.picH)));
      try {
        const got = await fetch(`/desk/${run().doc}/preview/rotate`, { method: "POST", body: data, signal });
        const blob = got.ok && (await got.blob());
        if (mine !== asked) return;
        if (blob) cur.preview(key, URL.createObjectURL(blob), `rotated ${way}`);
      } catch {
        return; // another desk is shown
      }
    }
  }

  function turn(by) {
    cur.selection();
    rotate.elements.by.value = String((angle() + by) % 360);
    rotating();
  }

  function cancel() {
    if (held) {
      held = null;
      for (const b of lanes.boards) b.setCut([]);
    } else if (angle()) {
      rotate.elements.by.value = "0";
      rotating();
    } else return false;
    return true;
  }

  rotate.elements.by.addEventListener("change", rotating, { signal });
  el("rotate-cancel").addEventListener("click", cancel, { signal });
  answersTo("rotate-right", () => turn(90), signal);
  answersTo("rotate-left", () => turn(270), signal);
  answersTo("apply", () => (cur.focused && angle() ? rotate.requestSubmit() : false), signal);
  answersTo("cancel", cancel, signal);

  // --- moving and copying, within a document and between documents

  // drop asks for it: pages come before the one at that index. Where they stand there already, nothing is asked.
  function drop({ from, keys, to, before, copy }) {
    const order = to.of.pages.map((p) => p.key);
    if (from === to && !copy) {
      const moves = new Set(keys);
      let i = before;
      while (i < order.length && moves.has(order[i])) i++;
      const rest = order.filter((k) => !moves.has(k));
      const at = i < order.length ? rest.indexOf(order[i]) : rest.length;
      if ([...rest.slice(0, at), ...order.filter((k) => moves.has(k)), ...rest.slice(at)].join() === order.join()) return null;
      before = i;
    }
    to.el.focus({ preventScroll: true }); // one goes on where they came
    active(to);
    return act({ what: copy ? "copy" : "move", from: from.of, keys: keys.join(" "), to: to.of, before: order[before] ?? "end" });
  }
  board.onDrop = drop;

  function hold(copy) {
    held = { doc: run().doc, keys: cur.selection(), copy };
    for (const b of lanes.boards) b.setCut(b === cur && !copy ? held.keys : []);
    const n = held.keys.length;
    say(`${count(n, "page")} ${copy ? "copied" : "cut"}: go to the new place and press Ctrl V.`);
  }

  const paste = (after) => {
    if (!held) return false;
    const from = lanes.boards.find((b) => b.of.doc === held.doc);
    const { keys, copy } = held;
    held = null;
    for (const b of lanes.boards) b.setCut([]);
    const left = from ? keys.filter((k) => from.of.page(k)) : [];
    if (!left.length) return say("The cut or copied pages are gone. Nothing was changed.", true);
    drop({ from, keys: left, to: cur, before: run().index(cur.cursor) + after, copy });
    return true;
  };
  answersTo("cut", () => hold(false), signal);
  answersTo("copy", () => hold(true), signal);
  answersTo("paste", () => paste(0), signal);
  answersTo("paste-after", () => paste(1), signal);
  answersTo("remove", () => {
    cur.selection();
    remove.requestSubmit();
  }, signal);
  answersTo("duplicate", () => {
    cur.selection();
    form("duplicate").requestSubmit();
  }, signal);
  answersTo("next-lane", () => nextLane(1), signal);
  answersTo("open-lane", () => el("lane-words").focus(), signal);
  answersTo("add-files", () => (lanes.add ? lanes.add(cur) : false), signal);

  function nextLane(by) {
    if (lanes.boards.length < 2) return false;
    const i = (lanes.boards.indexOf(cur) + by + lanes.boards.length) % lanes.boards.length;
    lanes.boards[i].el.focus();
    return true;
  }

  // Undo and redo are those of the document whose lane was used last.
  for (const what of ["undo", "redo"]) answersTo(what, () => (here() ? false : act({ what, lane: run() })), signal);

  words();
  listen(board);
  lanes = startLanes({ board, signal, act, active, listen });
  const last = lanes.boards.find((b) => b.of.doc === mount.last) ?? board;
  for (const b of lanes.boards) b.last = b === last;
  if (last !== board) last.el.focus({ preventScroll: true });
  active(last);
  signal.addEventListener("abort", () => (mount.last = cur.of.doc), { once: true });
}
