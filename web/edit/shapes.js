// Shapes: drawn on the page, or written as points; one that is taken by a click is changed.
import { el, answer } from "../dom.js";
import { inside } from "../geometry.js";
import { press } from "../gesture/press.js";
import { startPreview } from "../sentence/preview.js";
import { state, page, on } from "../state.js";

const step = 1.5; // points between the places of a stroke

export function mount({ paper, strip, signal }) {
  const form = el("shape-form");
  const e = form.elements;
  let shapes = [];
  let read = "";
  let taken = null;
  let corners = null; // of a polygon that is being drawn

  e.page.value = state.at;
  startPreview(form, { paper, strip, signal, wants: () => e.points.value.trim() !== "" });
  const round = (v) => Math.round(v * 10) / 10;
  const write = (list) => list.map(([x, y]) => `${round(x)},${round(y)}`).join(" ");

  async function looked() {
    const p = page(state.at);
    if (!p) return;
    e.page.value = p.key;
    const of = `${p.key} ${p.version}`;
    if (read === of) return draw();
    read = of;
    shapes = [];
    const got = await answer(`/desk/${state.doc}/edit/found/${p.key}`, { signal });
    if (!got.ok || read !== of || signal.aborted) return;
    shapes = got.json().filter((t) => t.shape).map((t) => ({ ...t, b: [Math.min(...t.points.map((q) => q[0])), Math.min(...t.points.map((q) => q[1])), Math.max(...t.points.map((q) => q[0])), Math.max(...t.points.map((q) => q[1]))] }));
    paper.paper.dataset.found = p.key;
    draw();
  }

  function draw(list = null) {
    const g = paper.group("shape");
    if (taken) g.append(paper.polygon([taken.b[0], taken.b[1], taken.b[2], taken.b[1], taken.b[2], taken.b[3], taken.b[0], taken.b[3]], "lit chosen"));
    if (!list) return;
    const l = document.createElementNS("http://www.w3.org/2000/svg", "polyline");
    const kind = e.kind.value;
    const [a, b] = [list[0], list.at(-1)];
    const pts = kind === "rectangle" || kind === "ellipse" ? [a, [b[0], a[1]], b, [a[0], b[1]], a] : list;
    l.setAttribute("points", pts.map((q) => q.join(",")).join(" "));
    l.setAttribute("class", "drawn");
    g.append(l);
  }

  function points(list) {
    e.points.value = write(list);
    draw();
    form.dispatchEvent(new Event("input"));
    el("shape-drop").hidden = false;
  }

  // take takes a shape, to be changed; null a new one.
  function take(t) {
    taken = t;
    form.dataset.step = t ? "change-shape" : "add-shape";
    form.setAttribute("hx-post", `/desk/${state.doc}/do/${form.dataset.step}`);
    window.htmx.process(form);
    e.at.disabled = !t;
    e.at.value = t?.at ?? "";
    form.querySelector("[data-outcome]").dataset.outcome = t ? "Change shape" : "Draw shape";
    form.querySelector("[data-outcome]").textContent = t ? "Change shape" : "Draw shape";
    el("shape-title").textContent = t ? t.name : "Shapes";
    el("shape-drop").hidden = !t;
    const rm = el("shape-remove-form");
    rm.hidden = !t;
    rm.elements.page.value = state.at;
    rm.elements._objects.value = t ? JSON.stringify([{ what: "shape", at: t.at }]) : "";
    e.points.value = t ? write(t.points) : "";
    if (t) {
      const s = t.shape;
      e.kind.value = s.kind;
      for (const k of ["stroke", "fill"]) {
        const own = e[k].querySelector("[data-own]");
        const v = s[k] || "none";
        if (![...e[k].options].some((o) => o.value === v)) own.value = v;
        e[k].value = v;
      }
      e.width.value = `${s.width} pt`;
      e.dash.value = s.dash;
      e.opacity.value = s.opacity;
    }
    draw();
    form.dispatchEvent(new Event("input"));
    if (!t) paper.show();
  }
  el("shape-drop").addEventListener("click", () => {
    corners = null;
    take(null);
  }, { signal });

  paper.paper.classList.add("crops");
  paper.paper.addEventListener("pointerdown", (down) => {
    if (down.button !== 0 || down.target.closest?.(".note")) return;
    down.preventDefault();
    paper.view.focus({ preventScroll: true });
    const at = paper.point(down);
    const kind = e.kind.value;
    let path = [at];
    if (kind === "polygon") {
      const last = corners?.at(-1);
      if (last && Math.hypot(last[0] - at[0], last[1] - at[1]) < 3) return finish();
      if (!corners && hit(at)) return take(hit(at));
      corners = [...(corners ?? []), at];
      return draw(corners);
    }
    press(down, {
      scrolls: paper.view, signal,
      move: (x, y, ev) => {
        let to = paper.point(ev);
        if (kind === "stroke") {
          const last = path.at(-1);
          if (Math.hypot(last[0] - to[0], last[1] - to[1]) >= step && path.length < 4000) path.push(to);
        } else {
          if (ev.shiftKey && (kind === "line" || kind === "arrow")) to = Math.abs(to[0] - at[0]) > Math.abs(to[1] - at[1]) ? [to[0], at[1]] : [at[0], to[1]];
          else if (ev.shiftKey) {
            const d = Math.max(Math.abs(to[0] - at[0]), Math.abs(to[1] - at[1]));
            to = [at[0] + d * Math.sign(to[0] - at[0]), at[1] + d * Math.sign(to[1] - at[1])];
          }
          path = [at, to];
        }
        draw(path);
      },
      end: () => path.length > 1 && points(path),
      cancel: () => draw(),
      click: () => take(hit(at)),
    });
  }, { signal });

  const hit = (at) => shapes.findLast((t) => inside([t.b[0] - 4, t.b[1] - 4, t.b[2] + 4, t.b[3] + 4], at)) ?? null;

  function finish() {
    const list = corners;
    corners = null;
    if (list && list.length > 2) points(list);
    else draw();
  }
  paper.view.addEventListener("keydown", (ev) => {
    if (ev.key === "Enter" && corners) {
      ev.preventDefault();
      ev.stopPropagation();
      finish();
    }
    if (ev.key === "Escape" && (corners || taken || e.points.value)) {
      ev.stopPropagation();
      corners = null;
      take(null);
    }
  }, { signal });

  on("look", looked, signal);
  signal.addEventListener("abort", () => paper.paper.classList.remove("crops"), { once: true });
  looked();
}
