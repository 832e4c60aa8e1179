// Spelling: the words that no dictionary has, in a list and marked on the page; each is replaced, passed over or learned.
import { el, answer, count, plain } from "../dom.js";
import { answersTo } from "../keys.js";
import { state, page, look, on } from "../state.js";
import { say } from "../desk.js";

let at = ""; // the word that was looked at, kept from step to step

export function mount({ paper, signal }) {
  const form = el("spell-form");
  if (!form) return;
  let words = [];
  let read = "";
  let marks = [];
  let more = 0;
  const kept = `passed over ${state.doc}`;
  const passed = () => {
    try {
      return new Set(JSON.parse(localStorage.getItem(kept) ?? "[]"));
    } catch {
      return new Set();
    }
  };
  const language = () => el("spell-language").value;
  const open = () => words.filter((w) => !passed().has(w.word));

  async function list() {
    el("spell-count").textContent = "Reading …";
    const got = await answer(`/desk/${state.doc}/edit/spelled?language=${language()}`, { signal });
    if (signal.aborted) return;
    if (!got.ok) {
      el("spell-count").textContent = plain(got.text());
      return;
    }
    ({ words, more = 0 } = got.json());
    paper.paper.dataset.spelled = language();
    draw();
    const list = open();
    if (list.length) take((list.find((w) => w.word === at) ?? list[0]).word, false);
    looked();
  }

  function draw() {
    const list = open();
    el("spell-count").textContent = list.length ? `${count(list.length, "word")} not in the dictionary${more ? `, and ${more} more` : ""}.` : "No spelling mistakes found.";
    form.hidden = !list.length;
    el("spell-list").replaceChildren(...list.map((w) => {
      const li = document.createElement("li");
      li.classList.toggle("now", w.word === at);
      const b = Object.assign(document.createElement("button"), { type: "button", className: "btn btn-link btn-sm", textContent: w.word });
      if (w.word === at) b.setAttribute("aria-current", "true");
      b.addEventListener("click", () => take(w.word));
      li.append(b, `${w.count === 1 ? "" : `${w.count} times, from `}page ${w.number}`);
      return li;
    }));
    mark();
  }

  // take takes a word, to be written otherwise.
  function take(word, goes = true) {
    const w = words.find((one) => one.word === word);
    if (!w) return;
    at = word;
    form.elements.find.value = word;
    form.elements.with.value = w.near[0] ?? word;
    el("spell-word").textContent = word;
    el("spell-near").replaceChildren(...w.near.map((n) => {
      const b = Object.assign(document.createElement("button"), { type: "button", className: "btn btn-outline-primary btn-sm", textContent: n });
      b.addEventListener("click", () => (form.elements.with.value = n));
      return b;
    }));
    if (goes && w.pages.length && !w.pages.includes(state.at)) look(w.pages[0]);
    draw();
  }

  async function looked() {
    const p = page(state.at);
    if (!p) return;
    const name = `${p.key} ${p.version} ${language()}`;
    if (read === name) return mark();
    read = name;
    marks = [];
    mark();
    const got = await answer(`/desk/${state.doc}/edit/spelled/${p.key}?language=${language()}`, { signal });
    if (!got.ok || read !== name || signal.aborted) return;
    marks = got.json();
    mark();
  }

  function mark() {
    const g = paper.group("spelling");
    const skip = passed();
    for (const m of marks) {
      if (skip.has(m.word)) continue;
      for (const q of m.q) {
        const s = paper.polygon(q, m.word === at ? "unsure now" : "unsure");
        s.addEventListener("click", () => take(m.word, false));
        g.append(s);
      }
    }
    paper.paper.dataset.marks = String(marks.length);
  }

  function pass() {
    const list = open();
    const i = list.findIndex((w) => w.word === at);
    if (i < 0) return false;
    const s = passed();
    s.add(at);
    try {
      localStorage.setItem(kept, JSON.stringify([...s].slice(-2000)));
    } catch {
      say("This browser can’t store ignored words: the word will be flagged again.");
    }
    const next = list[i + 1] ?? list[i - 1];
    at = "";
    if (next) take(next.word);
    else draw();
    return true;
  }
  el("spell-ignore").addEventListener("click", pass, { signal });
  el("spell-learn").addEventListener("click", async () => {
    const got = await answer(`/desk/${state.doc}/edit/learn`, { method: "POST", body: new URLSearchParams({ word: at }), signal });
    if (signal.aborted) return;
    say(got.ok ? got.json().said : plain(got.text()), !got.ok);
    if (!got.ok) return;
    words = words.filter((w) => w.word !== at);
    marks = marks.filter((m) => m.word !== at);
    at = "";
    if (open()[0]) take(open()[0].word);
    else draw();
  }, { signal });
  el("spell-where").addEventListener("change", () => (form.elements.pages.value = el("spell-where").value === "here" ? state.at : "all"), { signal });
  el("spell-language").addEventListener("change", list, { signal });
  const by = (n) => {
    const list = open();
    if (!list.length) return false;
    const i = list.findIndex((w) => w.word === at);
    take(list[(i + n + list.length) % list.length].word);
    return true;
  };
  answersTo("word-next", () => by(1), signal);
  answersTo("word-back", () => by(-1), signal);
  answersTo("word-ignore", pass, signal);
  on("look", () => {
    if (el("spell-where").value === "here") form.elements.pages.value = state.at;
    looked();
  }, signal);
  on("resized", mark, signal);
  list();
}

