// What changed: page by page and word by word, with what was and what is on one another or side by side.
import { el, answer, count, plain } from "../dom.js";
import { answersTo } from "../keys.js";
import { startParting } from "../surface/parting.js";
import { state, page, look, on, box } from "../state.js";

const svg = "http://www.w3.org/2000/svg";
let how = "edge"; // kept from step to step

export function mount({ paper, signal }) {
  let pages = [];
  let now = -1; // of the list of changes
  let asked = 0;
  let shown = ""; // whose places are marked
  let places = null;

  el("compare-how").value = how;
  const beside = Object.assign(document.createElement("figure"), { className: "paper beside", hidden: true });
  const besideImg = Object.assign(document.createElement("img"), { alt: "The page before" });
  const besideLayer = document.createElementNS(svg, "svg");
  beside.append(besideImg, besideLayer);
  paper.paper.before(beside);

  // then gives the page of before for the page that is looked at.
  function then() {
    const p = page(state.at);
    const one = pages.find((c) => c.now?.key === state.at);
    if (!p || (one && !one.then)) return null;
    if (one) return one.then;
    return null;
  }
  const address = (t) => `/desk/${t.doc}/picture/${t.key}/${t.version}/${box(Math.max(paper.now.w, paper.now.h))}`;
  const redraw = startParting(paper, signal, { before: () => (how === "edge" && then() ? address(then()) : null), words: ["before", "now"] });

  async function list() {
    const mine = ++asked;
    el("compare-count").textContent = "Comparing …";
    el("compare-list").replaceChildren();
    [pages, now, shown] = [[], -1, ""];
    redraw();
    const got = await answer(`/desk/${state.doc}/edit/compared?with=${encodeURIComponent(el("compare-with").value)}`, { signal });
    if (mine !== asked || signal.aborted) return;
    if (!got.ok) {
      el("compare-count").textContent = plain(got.text());
      return;
    }
    const sent = got.json();
    pages = sent.pages;
    const words = pages.reduce((n, p) => n + p.words.length, 0);
    const came = pages.filter((p) => !p.then).length;
    const gone = pages.filter((p) => !p.now).length;
    const looks = pages.filter((p) => p.looks).length;
    const says = [words && count(words, "text change"), came && `${count(came, "page")} added`, gone && `${count(gone, "page")} removed`, looks && `${count(looks, "page")} changed in appearance only`].filter(Boolean).join(", ");
    el("compare-count").textContent = `${says || "No differences"}.${sent.unlooked ? ` ${count(sent.unlooked, "page")} with the same words ${sent.unlooked === 1 ? "was" : "were"} not compared visually.` : ""}`;
    el("compare-list").replaceChildren(...pages.flatMap((p, i) => lines(p, i)));
    paper.paper.dataset.compared = el("compare-with").value;
    const first = pages.findIndex((p) => p.now);
    if (first >= 0 && !pages.some((p) => p.now?.key === state.at)) go(first);
    else looked();
  }

  // lines makes the lines of the list for a page.
  function lines(p, i) {
    const at = p.now ? `Page ${p.now.number}` : `Earlier page ${p.then.number}`;
    const line = (...parts) => {
      const li = document.createElement("li");
      li.dataset.page = String(i);
      const b = Object.assign(document.createElement("button"), { type: "button", className: "btn btn-link btn-sm", textContent: at });
      b.addEventListener("click", () => go(i));
      const text = document.createElement("span");
      text.append(...parts);
      li.append(b, text);
      return li;
    };
    if (!p.then) return [line("added")];
    if (!p.now) return [line("removed")];
    const out = p.words.map((w) => {
      const del = Object.assign(document.createElement("del"), { textContent: w.was });
      const ins = Object.assign(document.createElement("ins"), { textContent: w.is });
      return line(w.before ? `${w.before} ` : "", del, w.was && w.is ? " " : "", ins, w.after ? ` ${w.after}` : "");
    });
    if (p.looks) out.push(line("same text, different appearance"));
    if (p.moved) out.push(line(`moved from page ${p.then.number}`));
    return out;
  }

  function go(i) {
    const p = pages[i];
    now = i;
    if (p?.now) look(p.now.key);
    else if (p) el("compare-count").textContent = `Earlier page ${p.then.number} has been removed.`;
    for (const li of el("compare-list").children) li.classList.toggle("now", li.dataset.page === String(i));
  }

  async function looked() {
    redraw();
    const t = then();
    show(t);
    const name = t ? `${state.at} ${t.key} ${t.version} ${el("compare-with").value}` : "";
    if (name === shown) return draw();
    shown = name;
    places = null;
    draw();
    if (!t) return;
    const got = await answer(`/desk/${state.doc}/edit/compared/${state.at}?was=${t.key}&with=${encodeURIComponent(el("compare-with").value)}`, { signal });
    if (!got.ok || shown !== name || signal.aborted) return;
    places = got.json();
    paper.paper.dataset.places = String(places.is.length + places.was.length + places.looks.length);
    draw();
  }

  // show puts the page of before beside the other one.
  function show(t) {
    beside.hidden = how !== "beside" || !t;
    if (beside.hidden) return;
    beside.style.width = `${t.w * paper.now.s}px`;
    beside.style.height = `${t.h * paper.now.s}px`;
    const src = address(t);
    if (besideImg.getAttribute("src") !== src) besideImg.src = src;
    besideLayer.setAttribute("viewBox", `0 0 ${t.w} ${t.h}`);
  }

  function draw() {
    const g = paper.group("compare");
    besideLayer.replaceChildren();
    if (!places) return;
    for (const q of places.is) g.append(paper.polygon(q, "came"));
    for (const [x0, y0, x1, y1] of places.looks) g.append(paper.polygon([x0, y0, x1, y0, x1, y1, x0, y1], "differs"));
    const to = how === "beside" ? besideLayer : g;
    for (const q of places.was) to.append(paper.polygon(q, "went"));
  }

  const by = (n) => {
    if (!pages.length) return false;
    go(now < 0 ? (n > 0 ? 0 : pages.length - 1) : (now + n + pages.length) % pages.length);
    return true;
  };
  answersTo("change-next", () => by(1), signal);
  answersTo("change-back", () => by(-1), signal);
  el("compare-with").addEventListener("change", list, { signal });
  el("compare-how").addEventListener("change", () => {
    how = el("compare-how").value;
    looked();
  }, { signal });
  on("look", looked, signal);
  on("resized", looked, signal);
  signal.addEventListener("abort", () => beside.remove(), { once: true });
  list();
}

