// Find: the text of the document that is open. What is looked for stays from station to station; all hits are
// counted, marked on the page, in the ribbon and in the margin, and gone through with N.
import { desk } from "./desk.js";
import { answer } from "./answer.js";

let state = null; // { q, ways, result, page, n }: page is an index into result.pages
let asked = 0;

// The first words of what stands behind a hit, and the last of what stands before it.
const head = (s) => (s.length <= 26 ? s : s.slice(0, 26).replace(/\S*$/, ""));
const tail = (s) => (s.length <= 20 ? s : s.slice(-20).replace(/^\S*\s/, ""));

const key = () => `find-${desk.doc}`;

export class Find {
  constructor({ go, paper, ribbon }) {
    Object.assign(this, { go, paper, ribbon });
    if (state && state.doc !== desk.doc) state = null;
    const strip = document.getElementById("found");
    if (strip) {
      document.getElementById("found-next").onclick = () => this.step(1);
      document.getElementById("found-back").onclick = () => this.step(-1);
      document.getElementById("found-end").onclick = () => this.end();
    }
    const sent = new URL(location.href).searchParams.get("find");
    if (sent !== null) {
      const url = new URL(location.href);
      url.searchParams.delete("find");
      history.replaceState(null, "", url);
      this.search(sent.replaceAll('"', ""), {}).then((r) => r?.hits && this.toPage(desk.at));
    } else if (!state) {
      const kept = sessionStorage.getItem(key());
      if (kept) {
        const { q, ways, at, n } = JSON.parse(kept);
        this.search(q, ways).then(() => at && this.toPage(at, n, true));
      }
    } else if (state.seen !== desk.seen) {
      const at = state.result.pages[state.page]?.key;
      const n = state.n;
      this.search(state.q, state.ways).then(() => this.toPage(at, n, true));
    } else {
      this.told();
    }
  }

  get active() {
    return state !== null && state.result.hits > 0;
  }

  // last is what was looked for last in this document.
  get last() {
    return state?.q ?? JSON.parse(sessionStorage.getItem(key()) ?? "{}").q ?? "";
  }

  params(q, ways) {
    const p = new URLSearchParams({ q });
    for (const [k, on] of Object.entries(ways)) if (on) p.set(k, "yes");
    return p;
  }

  // search looks for words; it gives the result, a sentence where that can't be, or nothing where a later search came between.
  async search(q, ways) {
    const mine = ++asked;
    if (!q.trim()) {
      this.end();
      return null;
    }
    const got = await answer(`/desk/${desk.doc}/find?${this.params(q, ways)}`);
    if (mine !== asked) return null;
    if (!got.ok) {
      const said = (await got.text()).trim();
      this.end();
      return { said, problem: true };
    }
    const result = await got.json();
    if (mine !== asked) return null;
    state = { doc: desk.doc, seen: desk.seen, q, ways, result, page: -1, n: 0 };
    this.keep();
    this.told();
    return result;
  }

  keep() {
    const at = state.result.pages[state.page]?.key ?? "";
    sessionStorage.setItem(key(), JSON.stringify({ q: state.q, ways: state.ways, at, n: state.n }));
  }

  // told shows the hits where this station can.
  told() {
    this.ribbon?.found(new Map(state?.result.pages.map((p) => [p.key, p.hits])));
    this.where();
    this.looked();
  }

  where() {
    const strip = document.getElementById("found");
    if (!strip) return;
    if (strip.hidden === this.active) {
      strip.hidden = !this.active;
      this.paper?.show(); // there is more or less room for the page
    }
    if (!this.active) return;
    const { result, q } = state;
    const before = result.pages.slice(0, Math.max(0, state.page)).reduce((sum, p) => sum + p.hits, 0);
    const all = result.hits.toLocaleString("en") + (result.more ? " and more" : "");
    document.getElementById("found-where").textContent =
      state.page < 0 ? `“${q}”: ${all} ${result.hits === 1 ? "hit" : "hits"} on ${result.pages.length} ${result.pages.length === 1 ? "page" : "pages"}` : `“${q}”: hit ${(before + state.n + 1).toLocaleString("en")} of ${all}`;
  }

  // choose keeps which hit is gone to, for the station that comes next.
  choose(at, n) {
    state.page = state.result.pages.findIndex((p) => p.key === at);
    state.n = n;
    this.keep();
  }

  // toPage goes to a hit of a page, or of the next page that has one.
  toPage(at, n = 0, quiet = false) {
    if (!this.active) return;
    let i = state.result.pages.findIndex((p) => p.key === at);
    if (i < 0) {
      const from = desk.index(at);
      i = state.result.pages.findIndex((p) => desk.index(p.key) >= from);
      n = 0;
      if (i < 0) i = 0;
    }
    state.page = i;
    state.n = Math.min(n, state.result.pages[i].hits - 1);
    this.keep();
    this.where();
    if (quiet && state.result.pages[i].key !== desk.at) return;
    if (state.result.pages[i].key !== desk.at) this.go(state.result.pages[i].key);
    else this.looked(true);
  }

  step(by) {
    if (!this.active) return;
    const pages = state.result.pages;
    if (state.page < 0) {
      // From the page that is looked at on, or back.
      const from = desk.index(desk.at);
      const on = pages.findIndex((p) => desk.index(p.key) >= from);
      const i = by > 0 ? (on < 0 ? 0 : on) : (on <= 0 ? pages.length : on) - 1;
      this.toPage(pages[i].key, by > 0 ? 0 : pages[i].hits - 1);
      return;
    }
    let { page, n } = state;
    n += by;
    if (n >= pages[page].hits) {
      page = (page + 1) % pages.length;
      n = 0;
    } else if (n < 0) {
      page = (page - 1 + pages.length) % pages.length;
      n = pages[page].hits - 1;
    }
    this.toPage(pages[page].key, n);
  }

  end() {
    asked++;
    state = null;
    sessionStorage.removeItem(key());
    this.ribbon?.found(new Map());
    this.paper?.group("hits");
    this.paper?.notes("hits", []);
    this.where();
  }

  // looked marks the hits of the page that is looked at.
  async looked(reveal = true) {
    if (!this.paper) return;
    const now = state?.result.pages.find((p) => p.key === desk.at);
    const page = desk.page(desk.at);
    if (!now || !page) {
      this.paper.group("hits");
      this.paper.notes("hits", []);
      return;
    }
    const mine = state;
    if (this.drawn?.state !== state || this.drawn.key !== desk.at) {
      const got = await answer(`/desk/${desk.doc}/hits/${page.key}?${this.params(state.q, state.ways)}`);
      if (!got.ok || state !== mine || desk.at !== page.key) return;
      this.drawn = { state, key: page.key, hits: await got.json() };
      if (state !== mine || desk.at !== page.key) return;
    }
    const g = this.paper.group("hits");
    const current = state.result.pages[state.page]?.key === desk.at ? state.n : -1;
    const notes = [];
    this.drawn.hits.forEach((pieces, i) => {
      for (const q of pieces) g.append(this.paper.polygon(q, i === current ? "hit now" : "hit"));
      const line = now.lines?.find((l) => l.n === i);
      if (line && pieces.length) {
        const y = Math.min(...pieces.map((q) => Math.min(q[1], q[3], q[5], q[7])));
        notes.push({ y, now: i === current, before: tail(line.before), text: line.text, after: head(line.after), go: () => this.toPage(desk.at, i) });
      }
    });
    this.paper.notes("hits", notes);
    if (reveal && current >= 0 && this.drawn.hits[current]?.length) this.paper.reveal(this.drawn.hits[current][0]);
  }
}

// found gives the lines of the result for the finder's list.
export function lines(most) {
  const out = [];
  for (const p of state?.result.pages ?? []) {
    for (const l of p.lines ?? []) {
      if (out.length >= most) return out;
      out.push({ page: p.key, number: p.number, ...l });
    }
  }
  return out;
}
