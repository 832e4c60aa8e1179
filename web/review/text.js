// Selecting text on the page: by word, line, paragraph, column or in a frame, with the pointer or the keys. The selection can be copied
// and marked.
import { el, answer, count } from "../dom.js";
import { answersTo } from "../keys.js";
import { bounds, distance, inside, middle, upTo } from "../geometry.js";
import { drawFrame } from "../gesture/frame.js";
import { press } from "../gesture/press.js";
import { state, index, page, on } from "../state.js";

const grains = ["word", "line", "paragraph", "column", "frame"];
const part = { line: "l", paragraph: "p", column: "c" }; // of a word, by grain
let grain = "word"; // kept from step to step

export function mount({ paper, signal }) {
  const choice = el("grain");
  const form = el("mark-form");
  let words = [];
  let read = ""; // the page and version whose words they are
  let from = -1; // the first and the last word that is selected, in the order of reading, from the fixed end to the moving one
  let to = -1;
  let box = null; // the frame
  let text = "";

  const selected = () => (box !== null ? text !== "" : from >= 0);

  function setGrain(g) {
    grain = choice.value = g;
    none();
  }

  function none() {
    from = to = -1;
    box = null;
    text = "";
    draw();
  }

  // looked reads the words of the page that is looked at.
  async function looked() {
    const p = page(state.at);
    if (!p) return;
    const name = `${p.key} ${p.version}`;
    if (read !== name) {
      read = name;
      words = [];
      none();
      const got = await answer(`/desk/${state.doc}/words/${p.key}`, { signal });
      if (!got.ok || read !== name || signal.aborted) return;
      words = got.json();
      paper.paper.dataset.read = p.key;
      el("no-text").hidden = words.length > 0;
    }
    draw();
  }

  // near gives the word at a point, or the one that is nearest.
  function near(at) {
    let best = -1;
    let least = Infinity;
    words.forEach((w, i) => {
      const d = distance(bounds(w.q), at);
      if (d < least) [best, least] = [i, d];
    });
    return best;
  }

  // ranges gives the words that are selected as runs in the order of reading.
  function ranges() {
    if (box) {
      const out = [];
      words.forEach((w, i) => {
        if (!inside(box, middle(w.q))) return;
        if (out.length && out.at(-1)[1] === i - 1) out.at(-1)[1] = i;
        else out.push([i, i]);
      });
      return out;
    }
    if (from < 0) return [];
    let [a, b] = [Math.min(from, to), Math.max(from, to)];
    const of = part[grain];
    if (of) {
      while (a > 0 && words[a - 1][of] === words[a][of]) a--;
      while (b + 1 < words.length && words[b + 1][of] === words[b][of]) b++;
    }
    return [[a, b]];
  }

  function draw(drawing = false) {
    const g = paper.group("taken");
    const runs = ranges();
    if (box) {
      const [x0, y0, x1, y1] = box;
      g.append(paper.polygon([x0, y0, x1, y0, x1, y1, x0, y1], "frame"));
    }
    for (const [a, b] of runs) {
      for (let i = a; i <= b; i++) {
        const next = i < b && words[i + 1].l === words[i].l ? words[i + 1] : null;
        g.append(paper.polygon(next ? upTo(words[i].q, next.q) : words[i].q, "taken"));
      }
    }
    if (!box) text = runs.map(([a, b]) => words.slice(a, b + 1).map((w, i) => (i ? w.s : "") + w.t).join("")).join("\n");
    el("taken").hidden = drawing || runs.length === 0;
    if (el("taken").hidden) return;
    const n = runs.reduce((sum, [a, b]) => sum + words.slice(a, b + 1).filter((w, i) => i === 0 || w.s).length, 0);
    el("taken-text").textContent = text.length > 220 ? `${text.slice(0, 160)} … ${text.slice(-50)}` : text;
    el("taken-count").textContent = `${count(n, "word")} of page ${index(state.at) + 1}`;
    form.elements.page.value = state.at;
    form.elements._words.value = runs.map(([a, b]) => `${a}-${b}`).join(" ");
  }

  async function readFrame() {
    if (!box || box[2] - box[0] < 3) return none();
    const at = box;
    const got = await answer(`/desk/${state.doc}/frame/${state.at}?at=${at.map((v) => v.toFixed(2)).join("+")}`, { signal });
    if (box !== at || !got.ok) return;
    text = got.text();
    draw();
  }

  paper.paper.classList.add("takes");
  paper.paper.addEventListener("pointerdown", (e) => {
    if (e.button !== 0 || !words.length) return;
    e.preventDefault();
    const done = () => paper.view.focus({ preventScroll: true });
    if (grain === "frame") {
      none();
      drawFrame(e, paper, {
        signal,
        draw: (drawn) => {
          box = drawn;
          draw(true);
        },
        end: () => (done(), readFrame()),
        cancel: none,
      });
      return;
    }
    const i = near(paper.point(e));
    if (e.shiftKey && from >= 0) to = i;
    else from = to = i;
    box = null;
    draw();
    press(e, {
      scrolls: paper.view, signal, near: 0,
      move: (x, y, m) => {
        to = near(paper.point(m));
        draw();
      },
      end: done,
      cancel: none,
    });
  }, { signal });
  paper.paper.addEventListener("dblclick", (e) => {
    if (grain === "frame") return;
    const was = grain;
    grain = "word";
    from = to = near(paper.point(e));
    draw();
    grain = was;
  }, { signal });

  async function copy() {
    if (!selected()) return false;
    try {
      await navigator.clipboard.writeText(text);
    } catch {
      document.execCommand("copy"); // where the clipboard may not be written to: the old way
    }
    el("taken-count").textContent = "Copied.";
  }

  document.addEventListener("copy", (e) => {
    if (!selected() || String(getSelection())) return;
    e.clipboardData.setData("text/plain", text);
    e.preventDefault();
  }, { signal });

  // beside gives the word of the next line, or of the one before, that stands under or over a word.
  function beside(i, by) {
    const [x] = middle(words[i].q);
    let j = i;
    while (words[j + by] && words[j + by].l === words[i].l) j += by;
    j += by;
    if (!words[j]) return i;
    const line = words[j].l;
    let best = j;
    let least = Infinity;
    for (; words[j] && words[j].l === line; j += by) {
      const d = Math.abs(middle(words[j].q)[0] - x);
      if (d < least) [best, least] = [j, d];
    }
    return best;
  }

  function arrow(e, extend) {
    if (document.activeElement !== paper.view || !words.length || grain === "frame") return false;
    const of = part[grain];
    let next = to < 0 ? 0 : to;
    if (to >= 0) {
      const forward = e.key === "ArrowRight" || e.key === "ArrowDown";
      if (!of && (e.key === "ArrowUp" || e.key === "ArrowDown")) next = beside(next, forward ? 1 : -1);
      else {
        const now = of && words[next][of];
        do next += forward ? 1 : -1;
        while (of && words[next] && words[next][of] === now);
      }
      next = Math.max(0, Math.min(words.length - 1, next));
    }
    box = null;
    if (!extend || from < 0) from = next;
    to = next;
    draw();
    paper.reveal(words[to].q);
  }

  choice.value = grain;
  choice.addEventListener("change", () => setGrain(choice.value), { signal });
  form.elements.how.addEventListener("change", () => (el("mark-do").textContent = form.elements.how.selectedOptions[0].text), { signal });
  el("copy-do").addEventListener("click", copy, { signal });
  answersTo("go", (e) => arrow(e, false), signal);
  answersTo("extend", (e) => arrow(e, true), signal);
  answersTo("grain", () => setGrain(grains[(grains.indexOf(grain) + 1) % 4]), signal);
  answersTo("copy", () => (selected() ? void copy() : false), signal);
  answersTo("mark", () => (selected() ? el("mark-do").click() : false), signal);
  answersTo("cancel", () => (selected() ? none() : false), signal);
  on("look", looked, signal);
  on("resized", () => draw(), signal);
  looked();
}
