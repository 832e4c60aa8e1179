// Recognized text: doubted words are shown on the page and in its margin, and gone through one by one.
import { el, answer } from "../dom.js";
import { answersTo } from "../keys.js";
import { bounds } from "../geometry.js";
import { state, index, page, on, look } from "../state.js";

let going = null; // {key, word}: the doubted word that was dealt with last, while one goes through them
let typing = false;

export function mount({ paper, slip, signal }) {
  const pages = JSON.parse(el("doubt-pages")?.textContent ?? "[]") ?? [];
  const form = el("doubt-form");
  let words = []; // doubted ones of the page that is looked at
  let languages = "";
  let read = "";
  let now = -1;
  let asked = 0;
  let wanted = 0; // which way to go once the words of this page have come; 0 for none

  for (const b of slip.querySelectorAll("[data-sure-page]")) b.addEventListener("click", () => look(b.dataset.surePage), { signal });

  // looked reads the doubted words of the page that is looked at.
  async function looked() {
    const p = page(state.at);
    if (!p) return;
    const name = `${p.key} ${p.version}`;
    if (read === name) return draw();
    read = name;
    words = [];
    now = -1;
    wanted = 0;
    draw();
    if (!pages.some((x) => x.key === p.key && x.n > 0)) {
      if (going?.key === p.key) beyond(going.back ? -1 : 1); // it was the last of this page
      return;
    }
    const got = await answer(`/desk/${state.doc}/recognize/doubts/${p.key}`, { signal });
    if (!got.ok || read !== name || signal.aborted) return;
    ({ words, languages } = got.json());
    paper.paper.dataset.doubts = p.key;
    if (going?.key === p.key) {
      const next = words.findIndex((w) => w.word >= going.word);
      if (going.back) step(words.length - 1, true);
      else if (next >= 0) step(next);
      else beyond(1);
    } else if (wanted && words.length) move(wanted);
    else draw();
  }

  const part = (w, pad, scale) => {
    const [x0, y0, x1, y1] = bounds(w.q);
    const [x, y] = [Math.max(0, x0 - pad), Math.max(0, y0 - pad / 2)];
    const v = { scale, x: Math.floor(x * scale), y: Math.floor(y * scale), w: Math.ceil((x1 - x + pad) * scale), h: Math.ceil((y1 - y + pad / 2) * scale) };
    return `/desk/${state.doc}/region/${state.at}?${new URLSearchParams(v)}`;
  };

  function draw() {
    const g = paper.group("doubts");
    words.forEach((w, i) => {
      const shape = paper.polygon(w.q, i === now ? "unsure now" : "unsure");
      shape.addEventListener("click", () => step(i, true));
      g.append(shape);
    });
    paper.notes("doubts", words.slice(0, 60).map((w, i) => ({
      y: bounds(w.q)[1], now: i === now, before: "", text: w.text, after: ` ${w.sure}%`, picture: part(w, 4, 1.6), go: () => step(i, true),
    })));
  }

  // step goes to a doubted word of this page.
  function step(i, keep) {
    now = i;
    const w = words[i];
    going = { key: state.at, word: w.word };
    if (keep) going.word = w.word;
    typing = true;
    el("doubt-go").hidden = true;
    form.hidden = false;
    form.elements.page.value = state.at;
    form.elements._word.value = w.word;
    form.elements._was.value = w.text;
    form.elements._text.value = w.text;
    el("doubt-picture").src = part(w, 14, 3);
    el("doubt-line").textContent = `… ${w.line} …`;
    el("doubt-sure").textContent = `${w.sure}% confidence.`;
    says();
    draw();
    paper.reveal(w.q);
    form.elements._text.focus({ preventScroll: true });
    form.elements._text.select();
    near(w);
  }

  function says() {
    const text = form.elements._text.value.trim();
    el("doubt-do").textContent = text === form.elements._was.value ? "Accept" : text ? "Correct" : "Remove: not text";
  }

  async function near(w) {
    const mine = ++asked;
    const list = el("doubt-near");
    list.replaceChildren();
    const got = await answer(`/desk/${state.doc}/recognize/near?${new URLSearchParams({ word: w.text, languages })}`, { signal });
    if (!got.ok || mine !== asked || signal.aborted) return;
    for (const text of got.json()) {
      const li = document.createElement("li");
      const b = Object.assign(document.createElement("button"), { type: "button", className: "btn btn-outline-primary btn-sm", textContent: text });
      b.addEventListener("click", () => {
        form.elements._text.value = text;
        says();
        form.elements._text.focus();
      });
      li.append(b);
      list.append(li);
    }
  }

  // beyond goes to the doubted words of the next page that has some, or of the one before.
  function beyond(by) {
    const at = index(state.at);
    const with_ = pages.filter((p) => p.n > 0 && index(p.key) >= 0 && p.key !== state.at).map((p) => p.key);
    const behind = with_.filter((k) => Math.sign(index(k) - at) === by);
    const next = (by > 0 ? behind[0] : behind.at(-1)) ?? (by > 0 ? with_[0] : with_.at(-1));
    if (!next) {
      if (words.length) step(by > 0 ? 0 : words.length - 1, true);
      return;
    }
    going = { key: next, word: 0, back: by < 0 };
    look(next);
  }

  function move(by) {
    if (!form) return false;
    if (now < 0 && words.length) step(by > 0 ? 0 : words.length - 1, true);
    else if (words[now + by]) step(now + by, true);
    else if (!words.length && pages.some((x) => x.key === state.at && x.n > 0)) wanted = by; // once they have come
    else beyond(by);
    return true;
  }

  function leave() {
    going = null;
    typing = false;
    now = -1;
    form.hidden = true;
    el("doubt-go").hidden = false;
    draw();
    el("stage")?.focus({ preventScroll: true });
  }

  if (form) {
    el("doubt-next").addEventListener("click", () => move(1), { signal });
    el("doubt-skip").addEventListener("click", () => move(1), { signal });
    el("doubt-learn").addEventListener("click", () => {
      going = { key: state.at, word: words[now]?.word ?? 0 };
      window.htmx.ajax("POST", `/desk/${state.doc}/recognize/words`, { target: "#swap", swap: "outerHTML", values: { word: form.elements._text.value, page: state.at } });
    }, { signal });
    form.elements._text.addEventListener("input", says, { signal });
    form.elements._text.addEventListener("keydown", (e) => {
      const near = [...el("doubt-near").querySelectorAll("button")].map((b) => b.textContent);
      if (e.key === "Escape") {
        e.preventDefault();
        e.stopPropagation();
        leave();
      } else if ((e.key === "ArrowDown" || e.key === "ArrowUp") && near.length) {
        e.preventDefault();
        const all = [form.elements._was.value, ...near];
        const i = Math.max(0, all.indexOf(form.elements._text.value)) + (e.key === "ArrowDown" ? 1 : all.length - 1);
        form.elements._text.value = all[i % all.length];
        says();
      }
    }, { signal });
    form.addEventListener("submit", () => (going = { key: state.at, word: Number(form.elements._word.value) + (form.elements._text.value.trim() ? 1 : 0) }), { capture: true, signal });
    answersTo("doubt-next", () => move(1), signal);
    answersTo("doubt-back", () => move(-1), signal);
    answersTo("doubt-accept", () => {
      if (now < 0) return false;
      form.requestSubmit();
      return true;
    }, signal);
  } else going = null;
  on("look", looked, signal);
  on("resized", draw, signal);
  looked();
  if (form && typing && going && going.key !== state.at && index(going.key) >= 0) look(going.key);
}
