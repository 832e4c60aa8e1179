// Blocks, pictures and drawings of a page: taken, moved, resized, turned, copied, taken off; and pictures changed and replaced.
import { el, answer, count } from "../dom.js";
import { answersTo } from "../keys.js";
import { bounds, inside } from "../geometry.js";
import { drawFrame } from "../gesture/frame.js";
import { press } from "../gesture/press.js";
import { startFields } from "../sentence/fields.js";
import { startPreview } from "../sentence/preview.js";
import { parse } from "../sentence/units.js";
import { state, page, on } from "../state.js";
import { say } from "../desk.js";
import { snapper } from "./snap.js";

const svg = "http://www.w3.org/2000/svg";
const rest = 700; // ms after the last key that moves something
let kept = null; // what is held from step to step: {key, names}
let placing = null; // a picture file that is to be put on the page

const mm = (pt) => `${Math.round((pt / 72) * 25.4 * 10) / 10} mm`;
const name = (t) => `${t.what} ${t.at}`;

export function mount({ paper, strip, signal }) {
  const form = el("objects-form");
  const pictures = el("picture-form");
  let list = [];
  let read = "";
  let held = []; // indexes into the list
  let pending = null; // {dx, dy} by keys
  let timer = 0;

  startPreview(pictures, { paper, strip, signal, wants: () => !pictures.hidden && changedPicture() });
  startFields(el("objects-held"), signal);
  const tones = el("tone-form");
  startPreview(tones, { paper, strip, signal, wants: () => !tones.hidden && (tones.elements.colours.value !== "" || Number(tones.elements.brightness.value || 0) !== 0 || Number(tones.elements.contrast.value || 0) !== 0) });
  pictures.addEventListener("submit", () => (kept = { key: state.at, names: held.map((i) => name(list[i])) }), { signal });
  const changedPicture = () => ["flip", "colours", "order"].some((k) => pictures.elements[k].value) || ["cut_left", "cut_right", "cut_top", "cut_bottom", "brightness", "contrast", "opacity"].some((k) => Number(pictures.elements[k].value || 0) !== 0);

  async function looked() {
    const p = page(state.at);
    if (!p) return;
    const of = `${p.key} ${p.version}`;
    if (read === of) return draw();
    read = of;
    [list, held] = [[], []];
    draw();
    const got = await answer(`/desk/${state.doc}/edit/found/${p.key}`, { signal });
    if (!got.ok || read !== of || signal.aborted) return;
    list = got.json().map((t) => ({ ...t, b: bounds(t.q) }));
    paper.paper.dataset.found = p.key;
    if (kept?.key === p.key) held = list.map((t, i) => (kept.names.includes(name(t)) ? i : -1)).filter((i) => i >= 0);
    kept = null;
    slipped();
    draw();
  }

  // under gives the smallest object at a point, the last painted first.
  function under(at) {
    let best = -1;
    let least = Infinity;
    list.forEach((t, i) => {
      const [x0, y0, x1, y1] = t.b;
      if (!inside([x0 - 2, y0 - 2, x1 + 2, y1 + 2], at)) return;
      const area = (x1 - x0 + 4) * (y1 - y0 + 4);
      if (area <= least) [best, least] = [i, area];
    });
    return best;
  }

  const box = () => held.map((i) => list[i].b).reduce((a, b) => (a ? [Math.min(a[0], b[0]), Math.min(a[1], b[1]), Math.max(a[2], b[2]), Math.max(a[3], b[3])] : [...b]), null);
  const rect = ([x0, y0, x1, y1]) => [x0, y0, x1, y0, x1, y1, x0, y1];

  function draw(lit = -1) {
    const g = paper.group("objects");
    if (lit >= 0 && !held.includes(lit)) g.append(paper.polygon(list[lit].q, "lit"));
    for (const i of held) g.append(paper.polygon(list[i].q, "lit chosen"));
    const b = box();
    if (!b || held.some((i) => list[i].why)) return;
    const s = paper.now.s;
    const dot = (x, y, kind) => {
      const c = document.createElementNS(svg, kind === "turn" ? "circle" : "rect");
      const r = 5 / s;
      for (const [k, v] of Object.entries(kind === "turn" ? { cx: x, cy: y, r } : { x: x - r, y: y - r, width: 2 * r, height: 2 * r })) c.setAttribute(k, v);
      c.setAttribute("class", "handle");
      c.dataset.handle = kind;
      g.append(c);
    };
    dot(b[0], b[1], "nw");
    dot(b[2], b[1], "ne");
    dot(b[2], b[3], "se");
    dot(b[0], b[3], "sw");
    dot(b[2], (b[1] + b[3]) / 2, "e");
    dot((b[0] + b[2]) / 2, b[3], "s");
    dot((b[0] + b[2]) / 2, b[1] - 16 / s, "turn");
  }

  function hold(next) {
    held = next;
    slipped();
    draw();
  }

  // slipped brings the slip up to what is held.
  function slipped() {
    const one = held.length === 1 ? list[held[0]] : null;
    const why = held.map((i) => list[i].why).find(Boolean);
    el("objects-idle").hidden = held.length > 0;
    el("objects-why").hidden = !why;
    el("objects-why").textContent = why ?? "";
    el("objects-held").hidden = !held.length || Boolean(why);
    el("objects-several").hidden = held.length < 2;
    const pic = one?.what === "picture" && !why;
    pictures.hidden = !pic;
    el("picture-file").hidden = !pic;
    el("objects-add").hidden = el("tone-form").hidden = held.length > 0;
    el("objects-title").textContent = one ? one.name : held.length ? count(held.length, "object") : "Pictures and objects";
    const b = box();
    if (!b) return;
    el("object-x").value = mm(b[0]);
    el("object-y").value = mm(b[1]);
    el("object-w").value = mm(b[2] - b[0]);
    el("object-h").value = mm(b[3] - b[1]);
    el("object-turn").value = "0°";
    el("object-detail").textContent = one?.detail ?? (one?.text ? one.text.slice(0, 90) : "");
    if (pic) {
      pictures.elements.page.value = state.at;
      pictures.elements.picture.value = one.at;
      el("picture-out").href = `/desk/${state.doc}/edit/taken/${state.at}?picture=${one.at}`;
      el("picture-out").hidden = one.inline;
      pictures.dispatchEvent(new Event("input"));
    }
  }

  // does sends what becomes of the objects that are held.
  function does(step, objects, more = {}) {
    if (!objects.length) return;
    kept = step === "remove-objects" || more.to ? null : { key: state.at, names: held.map((i) => name(list[i])) };
    form.setAttribute("hx-post", `/desk/${state.doc}/do/${step}`);
    form.dataset.step = step;
    form.elements.page.value = state.at;
    form.elements._objects.value = JSON.stringify(objects);
    form.elements.copy.value = more.copy ?? "";
    form.elements.to.value = more.to ?? "";
    for (const k of ["copy", "to"]) form.elements[k].disabled = !form.elements[k].value;
    window.htmx.process(form);
    form.requestSubmit();
  }

  const named = (f = () => ({})) => held.map((i) => ({ what: list[i].what, at: list[i].at, ...f(list[i]) }));
  const round = (v) => Math.round(v * 100) / 100;

  // scaled gives, for each object, how it is scaled and moved so that the frame around all becomes another one.
  function scaledTo(from, to) {
    const sx = (to[2] - to[0]) / Math.max(0.01, from[2] - from[0]);
    const sy = (to[3] - to[1]) / Math.max(0.01, from[3] - from[1]);
    return named((t) => {
      const [cx, cy] = [(t.b[0] + t.b[2]) / 2, (t.b[1] + t.b[3]) / 2];
      return { x: round(to[0] + (cx - from[0]) * sx - cx), y: round(to[1] + (cy - from[1]) * sy - cy), scale_x: round(100 * sx), scale_y: round(100 * sy) };
    });
  }

  // --- the pointer

  paper.paper.classList.add("holds");
  paper.paper.addEventListener("pointermove", (e) => {
    if (!e.buttons) draw(under(paper.point(e)));
  }, { signal });
  paper.paper.addEventListener("pointerdown", (e) => {
    if (e.button !== 0 || e.target.closest?.(".note, .parting")) return;
    e.preventDefault();
    paper.view.focus({ preventScroll: true });
    const at = paper.point(e);
    if (placing) return place(e, at);
    const handle = handleAt(at);
    if (handle && held.length) return resize(e, handle);
    const i = under(at);
    if (i < 0) return frame(e);
    if (e.shiftKey) return hold(held.includes(i) ? held.filter((k) => k !== i) : [...held, i]);
    if (!held.includes(i)) hold([i]);
    drag(e, at);
  }, { signal });

  function handleAt([x, y]) {
    for (const h of paper.layer.querySelectorAll(".handle")) {
      const b = h.getBBox();
      const pad = 4 / paper.now.s;
      if (inside([b.x - pad, b.y - pad, b.x + b.width + pad, b.y + b.height + pad], [x, y])) return h.dataset.handle;
    }
    return null;
  }

  const others = () => list.filter((_, i) => !held.includes(i) && list[i].what !== "drawing").map((t) => t.b);

  function ghost(q, guides = [], note = "") {
    const g = paper.group("ghost");
    for (const one of q) g.append(paper.polygon(one, "ghost"));
    for (const [x1, y1, x2, y2] of guides) {
      const l = document.createElementNS(svg, "line");
      for (const [k, v] of Object.entries({ x1, y1, x2, y2, class: "guide" })) l.setAttribute(k, v);
      g.append(l);
    }
    if (note) {
      const t = document.createElementNS(svg, "text");
      const b = bounds(q[0]);
      for (const [k, v] of Object.entries({ x: b[0], y: Math.max(10, b[1] - 5 / paper.now.s), class: "guide-note", "font-size": 12 / paper.now.s })) t.setAttribute(k, v);
      t.textContent = note;
      g.append(t);
    }
  }

  function drag(e, at) {
    const b = box();
    const p = page(state.at);
    const snap = snapper(others(), p.w, p.h, paper.now.s, list.filter((_, i) => !held.includes(i)).flatMap((t) => t.bases ?? []), held.flatMap((i) => list[i].bases ?? []).map((y) => y - b[1]));
    let by = [0, 0];
    press(e, {
      scrolls: paper.view, signal,
      move: (x, y, ev) => {
        const to = paper.point(ev);
        by = [to[0] - at[0], to[1] - at[1]];
        let guides = [];
        let gaps = [];
        if (!ev.altKey) {
          const s = snap([b[0] + by[0], b[1] + by[1], b[2] + by[0], b[3] + by[1]]);
          by = [by[0] + s.dx, by[1] + s.dy];
          ({ guides, gaps } = s);
        }
        ghost(held.map((i) => list[i].q.map((v, k) => v + by[k % 2])), guides, `${mm(by[0])} across, ${mm(by[1])} down${gaps.length ? `, gap ${mm(gaps[0])}` : ""}`);
      },
      end: () => {
        paper.group("ghost");
        if (held.some((i) => list[i].why)) return;
        does("move-objects", named(() => ({ x: round(by[0]), y: round(by[1]) })));
      },
      cancel: () => paper.group("ghost"),
      click: () => {},
    });
  }

  function resize(e, handle) {
    const b = box();
    const p = page(state.at);
    const snap = snapper(others(), p.w, p.h, paper.now.s);
    const [cx, cy] = [(b[0] + b[2]) / 2, (b[1] + b[3]) / 2];
    let to = b;
    let turn = 0;
    press(e, {
      scrolls: paper.view, signal,
      move: (x, y, ev) => {
        const [px, py] = paper.point(ev);
        if (handle === "turn") {
          turn = Math.round((Math.atan2(py - cy, px - cx) * 180) / Math.PI + 90);
          if (!ev.altKey) turn = Math.round(turn / 15) * 15;
          const [sin, cos] = [Math.sin((turn * Math.PI) / 180), Math.cos((turn * Math.PI) / 180)];
          const q = rect(b);
          const r = q.map((_, k) => (k % 2 === 0 ? cx + (q[k] - cx) * cos - (q[k + 1] - cy) * sin : cy + (q[k - 1] - cx) * sin + (q[k] - cy) * cos));
          return ghost([r], [], `${turn}°`);
        }
        const s = ev.altKey ? { dx: 0, dy: 0, guides: [] } : snap([px, py, px, py]);
        const [nx, ny] = [px + s.dx, py + s.dy];
        to = [...b];
        if (handle.includes("w")) to[0] = Math.min(nx, b[2] - 2);
        if (handle.includes("e")) to[2] = Math.max(nx, b[0] + 2);
        if (handle.startsWith("n")) to[1] = Math.min(ny, b[3] - 2);
        if (handle.startsWith("s")) to[3] = Math.max(ny, b[1] + 2);
        if (cuts()) to = [Math.max(b[0], to[0]), Math.max(b[1], to[1]), Math.min(b[2], to[2]), Math.min(b[3], to[3])];
        else if (handle.length === 2 && (el("object-ratio").checked) !== ev.shiftKey) {
          const k = Math.max((to[2] - to[0]) / (b[2] - b[0]), (to[3] - to[1]) / (b[3] - b[1]));
          if (handle.includes("w")) to[0] = b[2] - k * (b[2] - b[0]);
          else to[2] = b[0] + k * (b[2] - b[0]);
          if (handle.startsWith("n")) to[1] = b[3] - k * (b[3] - b[1]);
          else to[3] = b[1] + k * (b[3] - b[1]);
        }
        ghost([rect(to)], s.guides, `${mm(to[2] - to[0])} by ${mm(to[3] - to[1])}`);
      },
      end: () => {
        paper.group("ghost");
        if (handle === "turn") return turn && turnBy(turn);
        if (cuts()) return cut(b, to);
        const one = held.length === 1 ? list[held[0]] : null;
        if (one?.what === "paragraph" && handle === "e") return widen(one, to[2] - to[0]);
        does("move-objects", scaledTo(b, to));
      },
      cancel: () => paper.group("ghost"),
    });
  }

  function turnBy(turn) {
    const b = box();
    const [cx, cy] = [(b[0] + b[2]) / 2, (b[1] + b[3]) / 2];
    const [sin, cos] = [Math.sin((turn * Math.PI) / 180), Math.cos((turn * Math.PI) / 180)];
    does("move-objects", named((t) => {
      const [x, y] = [(t.b[0] + t.b[2]) / 2 - cx, (t.b[1] + t.b[3]) / 2 - cy];
      return { turn, x: round(x * cos - y * sin - x), y: round(x * sin + y * cos - y) };
    }));
  }

  // A picture is cut by its handles: the values come into the sentence, and the page shows it before.
  const cuts = () => held.length === 1 && list[held[0]].what === "picture" && el("picture-handles").value === "cut";
  function cut(b, to) {
    const q = list[held[0]].q; // from its lower left corner on, as the picture itself has it
    const near = (x, y) => Math.abs(x - y) < 1;
    const sides = [[0, 1], [1, 2], [2, 3], [3, 0]].map(([i, k]) => {
      const [x, y, u, v] = [q[2 * i], q[2 * i + 1], q[2 * k], q[2 * k + 1]];
      return near(x, u) ? (near(x, b[0]) ? 0 : 2) : near(y, v) ? (near(y, b[1]) ? 1 : 3) : -1; // left, top, right or lower side as it is seen
    });
    if (sides.includes(-1)) return void say("To crop a rotated picture, type the percentages.", true);
    const per = (side) => String(Math.round((1000 * Math.abs(to[side] - b[side])) / (side % 2 ? b[3] - b[1] : b[2] - b[0])) / 10);
    for (const [i, k] of ["cut_bottom", "cut_right", "cut_top", "cut_left"].entries()) pictures.elements[k].value = per(sides[i]);
    pictures.dispatchEvent(new Event("input"));
  }

  // widen breaks the lines of a block anew in another width.
  async function widen(t, width) {
    const body = new URLSearchParams(new FormData(form));
    for (const k of ["_objects", "copy", "to"]) body.delete(k);
    body.set("page", state.at);
    body.set("paragraph", t.at);
    body.set("width", `${round(width)}pt`);
    kept = { key: state.at, names: [name(t)] };
    await window.htmx.ajax("POST", `/desk/${state.doc}/do/edit-paragraph`, { target: "#swap", swap: "outerHTML", values: Object.fromEntries(body) });
  }

  // frame takes what lies in a frame that is drawn.
  function frame(e) {
    const clear = () => paper.group("ghost");
    drawFrame(e, paper, {
      signal,
      draw: (f) => clear().append(paper.polygon(rect(f), "frame")),
      end: (f) => {
        clear();
        hold(list.map((t, i) => (inside(f, [t.b[0], t.b[1]]) && inside(f, [t.b[2], t.b[3]]) ? i : -1)).filter((i) => i >= 0));
      },
      cancel: clear,
      click: () => hold([]),
    });
  }

  // --- the slip

  const length = (id, then) => el(id).addEventListener("change", () => {
    const v = parse(el(id).value);
    el(id).classList.toggle("wrong", v === null);
    if (v !== null && held.length) then(v, box());
  }, { signal });
  length("object-x", (v, b) => does("move-objects", named(() => ({ x: round(v - b[0]) }))));
  length("object-y", (v, b) => does("move-objects", named(() => ({ y: round(v - b[1]) }))));
  const ratio = () => el("object-ratio").checked;
  length("object-w", (v, b) => v > 0 && does("move-objects", scaledTo(b, [b[0], b[1], b[0] + v, ratio() ? b[1] + ((b[3] - b[1]) * v) / (b[2] - b[0]) : b[3]])));
  length("object-h", (v, b) => v > 0 && does("move-objects", scaledTo(b, [b[0], b[1], ratio() ? b[0] + ((b[2] - b[0]) * v) / (b[3] - b[1]) : b[2], b[1] + v])));
  el("object-turn").addEventListener("change", () => {
    const v = Number(el("object-turn").value.replace("°", ""));
    el("object-turn").classList.toggle("wrong", !Number.isFinite(v));
    if (v && held.length) turnBy(v);
  }, { signal });
  el("objects-copy").addEventListener("click", () => does("move-objects", named(() => ({ x: 12, y: 12 })), { copy: "yes" }), { signal });
  el("objects-remove").addEventListener("click", () => does("remove-objects", named()), { signal });
  el("objects-go").addEventListener("click", async () => {
    const other = el("objects-doc")?.value;
    if (other) { // another document gets a copy
      const body = new URLSearchParams({ to: other, page: el("objects-to").value, _objects: JSON.stringify(named()), request: crypto.randomUUID() });
      const got = await answer(`/desk/${state.doc}/edit/carry/${state.at}`, { method: "POST", body, signal });
      if (signal.aborted) return;
      if (!got.ok) return void say(got.text().trim(), true);
      const out = got.json();
      say([out.said, ...(out.warnings ?? [])].join(" "));
      if (el("objects-how").value === "") does("remove-objects", named());
      return;
    }
    const p = state.pages[Number(el("objects-to").value) - 1];
    el("objects-to").classList.toggle("wrong", !p);
    if (p) does("move-objects", named(), { to: p.key, copy: el("objects-how").value });
  }, { signal });
  el("objects-align").addEventListener("change", () => {
    const how = el("objects-align").value;
    if (!how) return;
    const b = box();
    const i = how[0] === "x" ? 0 : 1;
    const of = (r) => (how[1] === "0" ? r[i] : how[1] === "1" ? r[i + 2] : (r[i] + r[i + 2]) / 2);
    does("move-objects", named((t) => ({ [i ? "y" : "x"]: round(of(b) - of(t.b)) })));
  }, { signal });
  el("objects-gaps").addEventListener("change", () => {
    const i = el("objects-gaps").value === "x" ? 0 : 1;
    if (!el("objects-gaps").value || held.length < 3) return;
    const row = held.map((k) => list[k]).sort((a, c) => a.b[i] - c.b[i]);
    const b = box();
    const free = (b[i + 2] - b[i] - row.reduce((n, t) => n + t.b[i + 2] - t.b[i], 0)) / (row.length - 1);
    let at = b[i];
    const to = new Map();
    for (const t of row) {
      to.set(t, at - t.b[i]);
      at += t.b[i + 2] - t.b[i] + free;
    }
    does("move-objects", named((t) => ({ [i ? "y" : "x"]: round(to.get(t)) })));
  }, { signal });

  // --- picture files

  async function send(file, ask) {
    const query = new URLSearchParams({ ...ask, seen: state.seen, request: crypto.randomUUID() });
    const got = await answer(`/desk/${state.doc}/edit/bring/${state.at}?${query}`, { method: "POST", body: file, headers: { "Content-Type": "application/octet-stream" }, signal });
    if (signal.aborted) return;
    if (!got.ok) return void say(got.text().trim(), true);
    const out = got.json();
    const there = new URLSearchParams({ page: out.page || state.at });
    await window.htmx.ajax("GET", `/desk/${state.doc}/${state.place}?${there}`, { target: "#swap", swap: "outerHTML" });
    say([out.said, ...(out.warnings ?? [])].join(" "));
  }
  el("picture-new").addEventListener("change", () => {
    const f = el("picture-new").files[0];
    const t = list[held[0]];
    if (!f || !t) return;
    kept = { key: state.at, names: [name(t)] };
    send(f, { picture: t.at, fit: el("picture-fit").value, everywhere: el("picture-all").value });
  }, { signal });
  el("picture-add").addEventListener("change", () => {
    placing = el("picture-add").files[0] ?? null;
    if (!placing) return;
    paper.paper.classList.add("picks");
    say("Click for the top left corner, or drag a frame. Enter places it in the centre of the view.");
    paper.view.focus({ preventScroll: true });
  }, { signal });
  function place(e, at) {
    const clear = () => paper.group("ghost");
    drawFrame(e, paper, {
      signal,
      draw: (f) => clear().append(paper.polygon(rect(f), "frame")),
      end: (f) => (clear(), placed(f[0], f[1], f[2] - f[0], f[3] - f[1])),
      cancel: clear,
      click: () => placed(at[0], at[1]),
    });
  }
  function placed(x, y, w, h) {
    const file = placing;
    placing = null;
    paper.paper.classList.remove("picks");
    send(file, { x: round(x), y: round(y), ...(w > 3 && h > 3 ? { width: round(w), height: round(h) } : {}) });
  }

  // --- keys

  function go(by) {
    if (!list.length) return false;
    const i = held.length ? (held.at(-1) + by + list.length) % list.length : by > 0 ? 0 : list.length - 1;
    hold([i]);
    paper.reveal(list[i].q);
    return true;
  }
  answersTo("object-next", () => go(1), signal);
  answersTo("object-back", () => go(-1), signal);
  answersTo("object-move", (e) => {
    if (!held.length || held.some((i) => list[i].why) || e.target.closest?.(".strip")) return false;
    const n = e.shiftKey ? 10 : 1;
    const d = { ArrowLeft: [-n, 0], ArrowRight: [n, 0], ArrowUp: [0, -n], ArrowDown: [0, n] }[e.key];
    pending = [(pending?.[0] ?? 0) + d[0], (pending?.[1] ?? 0) + d[1]];
    ghost(held.map((i) => list[i].q.map((v, k) => v + pending[k % 2])), [], `${pending[0]} pt across, ${pending[1]} pt down`);
    clearTimeout(timer);
    timer = setTimeout(() => {
      const by = pending;
      pending = null;
      paper.group("ghost");
      if (by[0] || by[1]) does("move-objects", named(() => ({ x: by[0], y: by[1] })));
    }, rest);
    return true;
  }, signal);
  answersTo("object-remove", () => {
    if (!held.length || held.some((i) => list[i].why)) return false;
    does("remove-objects", named());
    return true;
  }, signal);
  answersTo("object-none", () => {
    if (!held.length && !placing && !pending) return false;
    clearTimeout(timer);
    [pending, placing] = [null, null];
    paper.paper.classList.remove("picks");
    paper.group("ghost");
    hold([]);
    return true;
  }, signal);
  paper.view.addEventListener("keydown", (e) => {
    if (e.key !== "Enter" || !placing) return;
    e.preventDefault();
    const v = paper.view;
    placed((v.scrollLeft + v.clientWidth / 3 - paper.paper.offsetLeft) / paper.now.s, (v.scrollTop + v.clientHeight / 3 - paper.paper.offsetTop) / paper.now.s);
  }, { signal });

  on("look", looked, signal);
  on("resized", () => draw(), signal);
  signal.addEventListener("abort", () => {
    clearTimeout(timer);
    paper.paper.classList.remove("holds", "picks");
  }, { once: true });
  looked();
}
