// The slip: what is chosen or about to be done, as a sentence whose values are controls.
// Each change is run on the server as the step itself, and shown.
import { desk, box } from "./desk.js";

export class Slip {
  constructor({ go, paper, ribbon, board }) {
    Object.assign(this, { go, paper, ribbon, board, asked: 0, keys: [] });
    this.form = document.querySelector("form[data-preview]");
    if (this.form) this.job(this.form);
    if (board) this.arrange();
  }

  // --- a job with a preview on the page

  job(form) {
    const soon = () => {
      clearTimeout(this.timer);
      this.timer = setTimeout(() => this.preview(""), 220);
    };
    form.addEventListener("input", (e) => {
      if (e.target.name === "colour") form.elements["own-colour"].hidden = e.target.value !== "own";
      soon();
    });
    form.addEventListener("click", (e) => {
      const add = e.target.closest("[data-add]");
      const off = e.target.closest(".part-off");
      if (add) {
        const part = document.getElementById(`part-${add.dataset.add}`).content.firstElementChild.cloneNode(true);
        document.getElementById("wording").append(part);
        part.querySelector("input:not([type=hidden])")?.focus();
        soon();
      } else if (off) {
        off.closest(".part").remove();
        soon();
      }
    });
    document.addEventListener("desk:resized", () => this.form?.isConnected && this.preview(desk.at));
    this.preview("");
  }

  // looked is called when another page is looked at.
  looked() {
    if (this.form && this.ready) this.preview(desk.at);
  }

  async preview(at) {
    const form = this.form;
    const mine = ++this.asked;
    const said = form.querySelector("[data-said]");
    const button = form.querySelector("[data-outcome]");
    if (form.dataset.job === "insert" && !form.elements.from.value) {
      button.disabled = true;
      return;
    }
    const data = new FormData(form);
    // Stay on the page that is looked at if it will change; else go to the first that will.
    const stay = at || (this.keys.includes(desk.at) ? desk.at : "");
    data.set("at", form.dataset.job === "insert" ? "" : stay);
    data.set("box", this.paper.box());
    const answer = await fetch(`/desk/${desk.doc}/preview/${form.dataset.job}`, { method: "POST", body: new URLSearchParams(data) });
    if (mine !== this.asked || !form.isConnected) return;
    said.classList.toggle("problem", !answer.ok);
    if (!answer.ok) {
      said.textContent = await answer.text();
      button.disabled = true;
      this.keys = [];
      this.ribbon?.touch([]);
      this.paper.show();
      return;
    }
    const h = answer.headers;
    this.keys = (h.get("Preview-Keys") ?? "").split(" ").filter(Boolean);
    if (at && this.keys.length && !this.keys.includes(at) && form.dataset.job !== "insert") {
      this.ready = true;
      this.ribbon?.touch(this.keys);
      this.paper.show(); // this page stays as it is
      return;
    }
    const n = Number(h.get("Preview-Pages"));
    button.disabled = false;
    button.textContent = `${button.dataset.outcome} ${n.toLocaleString("en")} ${n === 1 ? "page" : "pages"}`;
    said.textContent = decodeURIComponent(h.get("Preview-Warnings") ?? "");
    this.ribbon?.touch(this.keys);
    const blob = await answer.blob();
    if (mine !== this.asked) return;
    const show = h.get("Preview-Show");
    this.ready = false; // going there must not ask again
    if (!stay && desk.page(show) && show !== desk.at) this.go(show);
    this.ready = true;
    const size = (h.get("Preview-Size") ?? "").split(" ").map(Number);
    this.paper.preview(blob, size.length === 2 ? { w: size[0], h: size[1] } : desk.page(desk.at));
    const spot = (h.get("Preview-Spot") ?? "").split(" ").map(Number);
    if (spot.length === 4) {
      const f = form.elements;
      this.paper.spot(spot, "Number goes here", `${f.margin.value} from the ${f.edge.value}, ${f.align.value === "middle" ? "centred on what is seen" : "at the " + f.align.value}`);
    } else if (form.dataset.job === "insert") {
      const to = form.elements.to.value.trim();
      this.paper.note(8, "This page comes in", (n > 1 ? "as the first of them, " : "") + (to ? `before page ${to}` : "at the end"));
    }
  }

  // --- Arrange

  arrange() {
    this.turn = document.getElementById("turn-form");
    const set = document.getElementById("set");
    document.addEventListener("desk:chosen", () => this.chosen());
    document.addEventListener("desk:turn", (e) => {
      if (!this.turn.isConnected) return;
      const by = this.turn.elements.by;
      by.value = String((Number(by.value) + e.detail) % 360);
      this.turning();
    });
    document.addEventListener("desk:do", () => this.turn.isConnected && Number(this.turn.elements.by.value) && this.turn.requestSubmit());
    document.addEventListener("desk:leave", (e) => {
      if (!this.turn.isConnected || !Number(this.turn.elements.by.value)) return;
      e.preventDefault();
      this.leave();
    });
    this.turn.elements.by.addEventListener("change", () => this.turning());
    document.getElementById("turn-not").addEventListener("click", () => this.leave());
    set.addEventListener("input", () => {
      const at = pageSet(set.value, desk.pages.length);
      set.classList.toggle("changed", at === null && set.value.trim() !== "");
      if (at) {
        desk.chosen = new Set(at.map((i) => desk.pages[i].key));
        this.board.draw();
        if (at.length) this.board.reveal(desk.pages[at[0]].key);
        this.words();
      }
    });
    set.addEventListener("keydown", (e) => {
      if (e.key === "Enter") document.getElementById("board").focus();
    });
    const move = document.getElementById("move-form");
    move.addEventListener("submit", (e) => {
      const to = document.getElementById("move-to");
      if (move.elements.to.value === "") move.elements.to.value = to.value.trim() === "" ? "end" : to.value.trim();
    }, true);
    this.chosen();
  }

  chosen() {
    const set = document.getElementById("set");
    if (!set?.isConnected || !this.turn.isConnected) return;
    const at = desk.pages.map((p, i) => (desk.chosen.has(p.key) ? i : -1)).filter((i) => i >= 0);
    set.value = writeSet(at);
    set.classList.remove("changed");
    this.words();
    if (Number(this.turn.elements.by.value)) this.turning();
  }

  words() {
    const n = desk.chosen.size;
    document.getElementById("chosen-title").textContent = n === 0 ? "Choose pages" : `${n.toLocaleString("en")} ${n === 1 ? "page" : "pages"} chosen`;
    document.getElementById("with-chosen").hidden = n === 0;
    for (const el of document.querySelectorAll("[data-chosen-words]")) el.textContent = n === 1 ? "it" : "them";
    for (const el of document.querySelectorAll("[data-chosen-them]")) el.textContent = n === 1 ? "it" : "them";
    const keys = desk.pages.filter((p) => desk.chosen.has(p.key)).map((p) => p.key).join(" ");
    for (const f of document.querySelectorAll("#with-chosen form")) f.elements.keys.value = keys;
    document.getElementById("take-out-do").textContent = n === 1 ? "Take it out" : `Take ${n.toLocaleString("en")} pages out`;
    document.getElementById("take-out-do").disabled = n === desk.pages.length;
  }

  // turning shows the chosen pages as they would stand; the step is done with the button or Enter.
  async turning() {
    const by = Number(this.turn.elements.by.value);
    const n = desk.chosen.size;
    document.getElementById("turn-go").hidden = by === 0;
    this.board.asTheyAre();
    if (!by || !n) return;
    const way = { 90: "right", 270: "left", 180: "upside down" }[by];
    document.getElementById("turn-do").textContent = `Turn ${n.toLocaleString("en")} ${n === 1 ? "page" : "pages"} ${way}`;
    const mine = ++this.asked;
    const seen = [...this.board.leaves.keys()].sort((a, b) => a - b).map((i) => desk.pages[i].key).filter((k) => desk.chosen.has(k)).slice(0, 24);
    for (const key of seen) {
      const data = new URLSearchParams(new FormData(this.turn));
      data.set("at", key);
      data.set("box", String(box(120)));
      const answer = await fetch(`/desk/${desk.doc}/preview/turn`, { method: "POST", body: data });
      if (mine !== this.asked || !this.turn.isConnected) return;
      if (answer.ok) this.board.coming(key, URL.createObjectURL(await answer.blob()), `turned ${way}`);
    }
  }

  leave() {
    this.asked++;
    this.turn.elements.by.value = "0";
    this.turning();
  }
}

// pageSet reads the plain parts of a page set for choosing while one types; the rules
// themselves are the server's. null where it can't be read yet.
export function pageSet(text, n) {
  const but = /^\s*all but\s+(.*)$/i.exec(text);
  if (but) {
    const left = pageSet(but[1], n);
    return left && [...Array(n).keys()].filter((i) => !left.includes(i));
  }
  const out = new Set();
  for (const raw of text.toLowerCase().split(",")) {
    let part = raw.trim();
    let every = 0;
    const m = /^(odd|even)\b\s*(.*)$/.exec(part);
    if (m) {
      every = m[1] === "odd" ? 1 : 2;
      part = m[2] || "1-last";
    }
    if (part === "all") part = "1-last";
    const r = /^(\d+|first|last)?\s*(-)?\s*(\d+|first|last)?$/.exec(part);
    if (!r || part === "" || part === "-") return null;
    const num = (v, d) => (v === undefined ? d : v === "last" ? n : v === "first" ? 1 : Number(v));
    const from = num(r[1], 1);
    const to = r[2] ? num(r[3], n) : from;
    for (let i = Math.max(1, from); i <= Math.min(n, to); i++) if (!every || i % 2 === every % 2) out.add(i - 1);
  }
  return [...out].sort((a, b) => a - b);
}

export function writeSet(at) {
  const parts = [];
  for (let i = 0; i < at.length; ) {
    let j = i;
    while (at[j + 1] === at[j] + 1) j++;
    parts.push(i === j ? `${at[i] + 1}` : `${at[i] + 1}-${at[j] + 1}`);
    i = j + 1;
  }
  return parts.join(", ");
}
