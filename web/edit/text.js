// Writing on the page: a paragraph is taken by a click, and what is typed in it is set by the server, which draws it, while one types.
import { el, answer, count, plain } from "../dom.js";
import { say } from "../desk.js";
import { answersTo } from "../keys.js";
import { bounds, inside } from "../geometry.js";
import { drawFrame } from "../gesture/frame.js";
import { startFields } from "../sentence/fields.js";
import { parse } from "../sentence/units.js";
import { state, page, look as goTo, on } from "../state.js";
import { hold, release, drafts, offer } from "../unapplied.js";
import { Field } from "./field.js";

let next = null; // where to go on after a step: {key, point}
let lifted = null; // a style
let goingTo = null; // the page that was gone to while something was written, by key: shown once that is a step

export function mount({ paper, signal }) {
  const form = el("edit-form");
  let blocks = [];
  let read = ""; // the page and version whose blocks they are
  let chosen = -1; // by keys
  let field = null; // what is written in
  let held = null; // by which it is applied when the page is left
  let picking = false;

  startFields(form, signal);
  paper.paper.classList.add("writes");

  // --- what can be taken

  async function looked() {
    const p = page(state.at);
    if (!p) return;
    const name = `${p.key} ${p.version}`;
    if (read === name) return draw();
    if (field?.key === p.key) return; // it was refused, and goes on
    if (field && leave(true)) { // another page is looked at: what was typed is applied, and then that page is shown
      goingTo = p.key;
      return;
    }
    read = name;
    [blocks, chosen] = [[], -1];
    draw();
    const got = await answer(`/desk/${state.doc}/edit/blocks/${p.key}`, { signal });
    if (read !== name || signal.aborted) return;
    if (!got.ok) {
      el("edit-said").textContent = plain(got.text());
      return;
    }
    const sent = got.json();
    blocks = sent.blocks;
    el("edit-scan").hidden = !sent.scan;
    paper.paper.dataset.blocks = p.key;
    draw();
    if (next && next.key === p.key) {
      const at = next.point;
      next = null;
      const hit = under(at);
      if (hit) begin(hit, at);
    }
    if (form.dataset.new === "yes") {
      form.dataset.new = "";
      beginNew(middleOfView());
    }
    if (restoring?.key === p.key) restored();
  }

  // --- what was typed and not applied

  let restoring = null; // a draft that is on its way back

  function restore(draft) {
    restoring = draft;
    if (state.at !== draft.key) return goTo(draft.key); // its blocks are read, and then it goes on
    restored();
  }

  async function restored() {
    const draft = restoring;
    restoring = null;
    if (field) leave(false);
    if (draft.what.new) beginNew([draft.what.new.x, draft.what.new.y], draft.what.new.width, true);
    else await begin({ at: draft.what.paragraph, line: draft.what.line, last: draft.what.last_line, join: draft.what.join }, null);
    if (!field) return; // it is offered still
    field.id = draft.id;
    if (field.base !== draft.base) { // somebody changed it meanwhile: the text is there to be copied
      field.replace(draft.value);
      el("edit-wrong").hidden = false;
      el("edit-wrong").textContent = "The text on the page has changed since. Your text replaces all of it: compare before you apply it.";
      return;
    }
    field.resume(draft);
  }

  function keepDraft() {
    if (!field.dirty()) return drafts.drop(state.doc, field.id);
    drafts.keep(state.doc, field.draft());
  }

  const unit = () => el("edit-unit").value;

  // under gives what a point lies on: a block and, where a line is taken, the line counted from 1.
  function under(at) {
    for (let i = 0; i < blocks.length; i++) {
      const b = blocks[i];
      if (!b.lines.length || !inside(grown(bounds(b.q), 2), at)) continue;
      if (unit() === "line") {
        const k = b.lines.findIndex((l) => inside(grown(bounds(l), 2), at));
        if (k >= 0) return { at: i, line: k + 1, q: b.lines[k] };
        continue;
      }
      return { at: i, line: 0, q: b.q };
    }
    return null;
  }

  function draw(lit = null) {
    const g = paper.group("blocks");
    if (field) return;
    const b = blocks[chosen];
    if (b) g.append(paper.polygon(b.q, "lit chosen"));
    if (lit) g.append(paper.polygon(lit.q, "lit"));
  }

  paper.paper.addEventListener("pointermove", (e) => {
    if (field || picking || e.buttons) return;
    draw(under(paper.point(e)));
  }, { signal });
  paper.paper.addEventListener("pointerleave", () => draw(), { signal });

  paper.paper.addEventListener("pointerdown", (e) => {
    if (e.button !== 0 || e.target.closest?.(".note")) return;
    const at = paper.point(e);
    if (picking) {
      e.preventDefault();
      return pick(e);
    }
    if (field?.holds(at)) {
      e.preventDefault();
      return field.pointer(e);
    }
    e.preventDefault();
    if (field) {
      next = { key: state.at, point: at };
      if (!leave(true)) next = null;
      return;
    }
    const hit = under(at);
    if (hit) return begin(hit, at);
    const clear = () => paper.group("new-frame");
    drawFrame(e, paper, {
      signal,
      draw: ([x0, y0, x1, y1]) => clear().append(paper.polygon([x0, y0, x1, y0, x1, y1, x0, y1], "frame")),
      end: ([x0, y0, x1]) => (clear(), beginNew([x0, y0], x1 - x0)),
      cancel: clear,
      click: () => beginNew([at[0], at[1] - 9]),
    });
  }, { signal });

  function middleOfView() {
    const v = paper.view;
    return [Math.max(36, (v.scrollLeft + 60 - paper.paper.offsetLeft) / paper.now.s), Math.max(36, (v.scrollTop + v.clientHeight / 2 - paper.paper.offsetTop) / paper.now.s)];
  }

  // --- writing

  async function begin(hit, at) {
    const p = page(state.at);
    const { at: paragraph, line = 0, last = 0, join = 0 } = hit;
    const got = await answer(`/desk/${state.doc}/edit/begin/${p.key}?${new URLSearchParams({ paragraph, line, last_line: last, join })}`, { signal });
    if (signal.aborted || state.at !== p.key) return;
    if (!got.ok) {
      el("edit-said").textContent = plain(got.text());
      el("edit-said").classList.add("problem");
      return;
    }
    if (field) leave(false);
    open({ paragraph, line, last_line: last, join }, got.json(), at);
    el("edit-title").textContent = join ? "Paragraphs" : last > line ? "Lines" : line ? "Line" : "Paragraph";
  }

  function beginNew(at, width = 0, exact = false) {
    const p = page(state.at);
    if (at[0] < 0 || at[1] < 0 || at[0] > p.w || at[1] > p.h) return;
    const size = 11;
    const foot = at[1] + 0.8 * size;
    const sent = { text: "", carets: [at[0], foot + 2.6, at[0], foot - 9, 0], runs: [], fonts: [], lines: 0, moved: 0, align: "left", leading: 13.2, width: 0, at: [0, 0, 0, 0] };
    open({ new: { x: Math.max(0, at[0]), y: Math.max(0, at[1]), width } }, sent, exact ? null : at);
    el("edit-title").textContent = "New text";
  }

  function open(what, sent, at) {
    el("edit-said").textContent = "";
    chosen = -1;
    draw();
    el("edit-idle").hidden = true;
    form.hidden = false;
    const began = sent;
    field = new Field({ paper, what, sent, at, typed: keepDraft, tried, changed, leave, signal });
    field.began = began;
    el("edit-draft").hidden = true;
    const f = field;
    held = { dirty: () => field === f && f.dirty(), apply, undo: () => f.undo(true), redo: () => f.undo(false) };
    hold(held, signal);
    for (const id of ["undo", "redo"]) {
      el(id).dataset.was ??= String(el(id).disabled);
      el(id).disabled = false;
    }
    fonts(sent);
    faces();
    form.elements.width.value = "";
    for (const id of ["look-size", "look-spacing", "look-opacity", "form-leading", "form-above", "form-width"]) el(id).value = "";
    el("look-colour").value = "";
    el("look-own").hidden = true;
    el("look-level").value = el("form-grow").value = "";
    el("form-align").value = sent.align;
    el("form-leading").placeholder = `${sent.leading} pt`;
    el("form-width").placeholder = sent.width ? `${Math.round(sent.width)} pt` : "up to the margin";
    el("edit-wrong").hidden = el("edit-grown").hidden = true;
    el("edit-keep").disabled = true;
    el("edit-unit-do").hidden = Boolean(what.new);
    el("edit-keep").textContent = what.new ? "Add text" : "Apply change";
    el("edit-leave").textContent = "Cancel";
    changed();
  }

  // fill puts what was changed into the form, as a step.
  function fill(f) {
    const e = form.elements;
    const body = f.body();
    e.page.value = f.key;
    e._edits.value = JSON.stringify(f.edits);
    for (const k of ["grow", "align", "leading", "above", "width"]) e[k].value = body[k] ?? "";
    if (f.what.new) {
      form.dataset.step = "add-text";
      form.setAttribute("hx-post", `/desk/${state.doc}/do/add-text`);
      e.x.value = `${f.what.new.x}pt`;
      e.y.value = `${f.what.new.y}pt`;
      if (f.what.new.width && !e.width.value) e.width.value = `${f.what.new.width}pt`;
      for (const k of ["paragraph", "line", "last_line", "join", "was", "grow", "above"]) e[k].value = "";
    } else {
      form.dataset.step = "edit-paragraph";
      form.setAttribute("hx-post", `/desk/${state.doc}/do/edit-paragraph`);
      e.paragraph.value = f.what.paragraph;
      for (const k of ["line", "last_line", "join"]) e[k].value = f.what[k] || "";
      e.was.value = f.base;
      e.x.value = e.y.value = "";
    }
    for (const k of ["paragraph", "line", "last_line", "join", "was", "x", "y", "grow", "align", "leading", "above", "width"]) e[k].disabled = e[k].value === ""; // what is empty keeps its usual value
  }

  // apply makes a step of what was changed while the page is being left; it tells why not, or nothing.
  async function apply() {
    if (!field?.dirty()) return "";
    const f = field;
    fill(f);
    const body = new URLSearchParams(new FormData(form));
    form.elements.page.value = "";
    f.field.readOnly = true;
    const got = await answer(form.getAttribute("hx-post"), { method: "POST", body, headers: { "HX-Request": "true" } });
    f.field.readOnly = false;
    if (!got.ok) return plain(got.text()) || "Your text was not applied";
    drafts.drop(state.doc, f.id);
    return "";
  }

  // leave ends writing: with keep, what was changed becomes a step. It tells whether there is one.
  function leave(keep) {
    if (!field) return false;
    const f = field;
    if (keep && f.dirty()) {
      fill(f);
      window.htmx.process(form);
      form.requestSubmit();
      return true;
    }
    const dropped = f.dirty() ? f.draft() : null;
    f.close();
    release(held);
    field = held = null;
    drafts.drop(state.doc, f.id);
    for (const id of ["undo", "redo"]) {
      el(id).disabled = el(id).dataset.was === "true";
      delete el(id).dataset.was;
    }
    offer(el("edit-draft"), restore, signal);
    if (dropped) dropping(dropped);
    form.hidden = true;
    el("edit-idle").hidden = false;
    el("edit-title").textContent = "Text";
    draw();
    paper.view.focus({ preventScroll: true });
    return false;
  }

  // dropping offers what was just dropped, until something else is said.
  function dropping(draft) {
    const said = say("Change cancelled.");
    if (!said) return;
    const b = Object.assign(document.createElement("button"), { type: "button", className: "btn btn-link btn-sm", textContent: "Restore text" });
    b.addEventListener("click", () => (el("message").replaceChildren(), restore(draft)), { signal });
    said.append(b);
  }

  form.addEventListener("submit", (e) => {
    if (!field || form.elements.page.value) return;
    e.preventDefault();
    e.stopImmediatePropagation();
    setTimeout(() => leave(true)); // a form can't be sent while it is being sent
  }, { signal, capture: true });
  document.addEventListener("htmx:after:request", (e) => {
    if (!field) return;
    form.elements.page.value = ""; // where it was refused, all is as it was typed
    const { sourceElement, response } = e.detail?.ctx ?? {};
    if (sourceElement !== form) return;
    if (response?.status < 300) drafts.drop(state.doc, field.id); // it is a step
    else {
      goingTo = null;
      if (field.key !== state.at) goTo(field.key); // where it was refused, one is led back to it
    }
  }, { signal });
  el("edit-leave").addEventListener("click", () => leave(false), { signal });

  // tried hears what the server made of it.
  function tried(sent, wrong) {
    const w = el("edit-wrong");
    w.hidden = !wrong;
    w.textContent = wrong ?? "";
    el("edit-keep").disabled = Boolean(wrong) || !field.dirty();
    el("edit-unit-do").hidden = Boolean(field.what.new) || field.dirty();
    if (wrong || !sent) return;
    const says = sent.moved > 0 ? `Text below moves down ${Math.round(sent.moved * 10) / 10} pt:` : sent.tight ? "Lines move closer together:" : sent.lines > 0 ? `${count(sent.lines, "line")} longer:` : "";
    el("edit-grown").hidden = !says && !el("form-grow").value;
    el("edit-grown-says").textContent = says || "It fits:";
    fonts({ fonts: field.began.fonts, lack: sent.lack });
    changed();
  }

  // changed brings the slip up to where the caret stands.
  function changed() {
    if (!field) return;
    const r = field.lookHere();
    const range = field.range();
    el("edit-for").textContent = range[0] === range[1] ? "Changes apply to the whole text. Select words to change only those." : `Changes apply to ${count(range[1] - range[0], "selected character")}.`;
    if (!r) return;
    const face = el("look-face");
    const own = [...face.options].find((o) => o.value === "" || o.textContent === r.font);
    face.value = [...face.options].find((o) => o.value === r.font)?.value ?? own?.value ?? "";
    el("look-size").placeholder = `${r.size} pt`;
    if (document.activeElement !== el("look-size")) el("look-size").value = "";
    for (const b of form.querySelectorAll("[data-look]")) {
      const k = b.dataset.look;
      const v = k === "bold" ? r.bold : k === "italic" ? r.italic : field.has(k);
      b.setAttribute("aria-pressed", String(Boolean(v)));
    }
    el("look-colour").options[0].textContent = r.colour ? `current colour, ${r.colour}` : "current colour";
  }

  function faces() {
    const list = [...new Set(field.began.runs.map((r) => r.font))];
    const house = [...(form.dataset.families ?? "Sans Serif Mono").split(" ")];
    el("look-face").replaceChildren(...(list.length ? list : []).map((n) => new Option(n, n)), ...house.filter((n) => !list.includes(n)).map((n) => new Option(n, n)));
  }

  // fonts tells, before anything is typed, what the fonts can set.
  function fonts({ fonts = [], lack = {} }) {
    const out = el("edit-fonts");
    out.replaceChildren();
    const say = (text, loose) => out.append(Object.assign(document.createElement("p"), { className: loose ? "edge loose" : "edge", textContent: text }));
    for (const [font, words] of Object.entries(lack ?? {})) say(`${words.slice(0, 6).map((w) => `“${w}”`).join(", ")} set in ${font}, because this font lacks some letters.`, true);
    for (const f of (fonts ?? []).slice(0, 3)) {
      if (f.state === "whole") say(`${f.name} is installed with all its characters.`);
      else if (f.state === "none") say(`${f.name} is not embedded: readers see a substitute. Missing characters use ${f.near}.`, true);
      else if (f.lacks) say(`${f.name} is only partly embedded. Words with ${lacking(f.lacks)} use ${f.near}.`, true);
      else say(`${f.name} is partly embedded, with all common characters.`);
    }
  }

  const lacking = (s) => {
    const list = [...s];
    return list.length > 14 ? `${list.slice(0, 14).join(" ")} and ${list.length - 14} more` : list.join(" ");
  };

  // --- style

  const look = (what) => field?.style(what);

  form.addEventListener("click", (e) => {
    const b = e.target.closest?.("[data-look]");
    if (!b || !field) return;
    const on = b.getAttribute("aria-pressed") !== "true";
    look({ [b.dataset.look]: on ? "yes" : "no" });
    b.setAttribute("aria-pressed", String(on));
    field.focus();
  }, { signal });
  el("look-face").addEventListener("change", () => look({ face: el("look-face").value }), { signal });
  const length = (id, then) => el(id).addEventListener("change", () => {
    const v = parse(el(id).value);
    el(id).classList.toggle("wrong", v === null && el(id).value !== "");
    if (v !== null) then(v);
  }, { signal });
  length("look-size", (v) => look({ size: `${v}pt` }));
  length("look-spacing", (v) => look({ spacing: `${v}pt` }));
  el("look-opacity").addEventListener("change", () => {
    const v = Number(el("look-opacity").value.replace("%", ""));
    el("look-opacity").classList.toggle("wrong", !(v > 0 && v <= 100));
    if (v > 0 && v <= 100) look({ opacity: v });
  }, { signal });
  el("look-level").addEventListener("change", () => look({ level: el("look-level").value || "level" }), { signal });
  el("look-colour").addEventListener("change", () => {
    const o = el("look-colour").selectedOptions[0];
    el("look-own").hidden = !o.hasAttribute("data-own");
    if (o.value) look({ colour: o.value });
  }, { signal });
  el("look-own").addEventListener("change", () => {
    el("look-colour").querySelector("[data-own]").value = el("look-own").value;
    look({ colour: el("look-own").value });
  }, { signal });
  length("form-leading", (v) => field?.form({ leading: `${v}pt` }));
  length("form-above", (v) => field?.form({ above: `${v}pt` }));
  length("form-width", (v) => field?.form({ width: `${v}pt` }));
  el("form-align").addEventListener("change", () => field?.form({ align: el("form-align").value }), { signal });
  el("form-grow").addEventListener("change", () => field?.form({ grow: el("form-grow").value }), { signal });
  el("look-lift").addEventListener("click", () => {
    const r = field?.lookHere();
    if (!r) return;
    lifted = { face: r.font, size: `${r.size}pt`, bold: r.bold ? "yes" : "no", italic: r.italic ? "yes" : "no", ...(r.colour ? { colour: r.colour } : {}) };
    el("look-lay").hidden = false;
    field.focus();
  }, { signal });
  el("look-lay").hidden = !lifted;
  el("look-lay").addEventListener("click", () => {
    if (lifted) look(lifted);
    field?.focus();
  }, { signal });

  // Where the reading was wrong: a paragraph goes on in the next one, or begins at a line within it.
  el("edit-join").addEventListener("click", () => {
    if (!field || field.what.new || field.dirty()) return;
    begin({ at: field.what.paragraph, join: field.what.join + 1 }, null);
  }, { signal });
  el("edit-part").addEventListener("click", () => {
    if (!field || field.what.new || field.dirty()) return;
    const row = field.caretAt(field.ends()[1])[4];
    const first = (field.what.line || 1) + row;
    const last = (field.what.line || 1) + field.caretAt(field.places - 1)[4];
    begin({ at: field.what.paragraph, line: first, last, join: field.what.join }, null);
  }, { signal });

  // A colour is picked from the page: the next click on it takes the one that is there.
  el("look-pick").addEventListener("click", () => {
    picking = !picking;
    paper.paper.classList.toggle("picks", picking);
  }, { signal });
  function pick(e) {
    picking = false;
    paper.paper.classList.remove("picks");
    const [x, y] = paper.point(e);
    const img = paper.img;
    const canvas = Object.assign(document.createElement("canvas"), { width: 1, height: 1 });
    const k = img.naturalWidth / paper.now.w;
    const c = canvas.getContext("2d");
    c.drawImage(img, Math.floor(x * paper.now.s * k), Math.floor(y * paper.now.s * k), 1, 1, 0, 0, 1, 1);
    const colour = `#${[...c.getImageData(0, 0, 1, 1).data.slice(0, 3)].map((v) => v.toString(16).padStart(2, "0")).join("")}`;
    const own = el("look-colour").querySelector("[data-own]");
    own.value = el("look-own").value = colour;
    el("look-colour").value = colour;
    el("look-own").hidden = false;
    look({ colour });
    field?.focus();
  }

  // --- keys

  function go(by) {
    if (field) return false;
    const can = blocks.map((b, i) => (b.lines.length ? i : -1)).filter((i) => i >= 0);
    if (!can.length) return false;
    const k = can.indexOf(chosen);
    chosen = can[k < 0 ? (by > 0 ? 0 : can.length - 1) : (k + by + can.length) % can.length];
    draw();
    paper.reveal(blocks[chosen].q);
    el("edit-said").classList.remove("problem");
    el("edit-said").textContent = blocks[chosen].text.slice(0, 160);
    return true;
  }
  answersTo("block-next", () => go(1), signal);
  answersTo("block-back", () => go(-1), signal);
  answersTo("block-write", (e) => {
    if (field || chosen < 0 || e.target.closest?.("a, button, summary, .strip")) return false;
    begin({ at: chosen, line: unit() === "line" ? 1 : 0, q: blocks[chosen].q }, null);
    return true;
  }, signal);
  answersTo("block-new", () => (field ? false : (beginNew(middleOfView()), true)), signal);
  answersTo("block-none", () => {
    if (!field && chosen < 0) return false;
    if (field) leave(false);
    chosen = -1;
    draw();
    return true;
  }, signal);

  on("look", looked, signal);
  on("resized", () => (field ? field.resized() : draw()), signal);
  signal.addEventListener("abort", () => {
    field?.close();
    paper.paper.classList.remove("writes", "picks");
  }, { once: true });
  offer(el("edit-draft"), restore, signal);
  const to = goingTo;
  goingTo = null;
  if (!to || to === state.at || !goTo(to)) looked();
}

const grown = ([x0, y0, x1, y1], by) => [x0 - by, y0 - by, x1 + by, y1 + by];
