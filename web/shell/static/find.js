// Search in the document that is open. What is looked for stays from station to station; all matches are
// counted, marked on the page, in the strip and in the margin, and gone through with N.
import { el, answer, count } from "./dom.js";
import { answersTo } from "./keys.js";
import { bounds } from "./geometry.js";
import { state, index, page, look, on } from "./state.js";

let search = null; // { doc, seen, q, ways, result, page, n }: page is an index into result.pages
let asked = 0;
let surfaces = {}; // { paper, strip } of the desk that is there now
let drawn = null;

// The first words of what stands behind a match, and the last of what stands before it.
const head = (s) => (s.length <= 26 ? s : s.slice(0, 26).replace(/\S*$/, ""));
const tail = (s) => (s.length <= 20 ? s : s.slice(-20).replace(/^\S*\s/, ""));

const kept = () => `find-${state.doc}`;

export const active = () => search !== null && search.result.hits > 0;

// last is what was looked for last in this document.
export const last = () => search?.q ?? JSON.parse(sessionStorage.getItem(kept()) ?? "{}").q ?? "";

// mount shows the matches on the surfaces of the desk that is there now.
export function mount(on_, signal) {
  surfaces = on_;
  drawn = null;
  if (search && search.doc !== state.doc) search = null;
  el("found-next").addEventListener("click", () => step(1), { signal });
  el("found-back").addEventListener("click", () => step(-1), { signal });
  el("found-end").addEventListener("click", () => end(), { signal });
  answersTo("next-match", () => (active() ? step(1) : false), signal);
  answersTo("previous-match", () => (active() ? step(-1) : false), signal);
  answersTo("end-matches", () => (active() ? end() : false), signal);
  on("look", () => looked(), signal);
  on("resized", () => looked(false), signal);
  const url = new URL(location.href);
  const sent = url.searchParams.get("find");
  if (sent !== null) {
    url.searchParams.delete("find");
    history.replaceState(null, "", url);
    find(sent.replaceAll('"', ""), {}).then((r) => r?.hits && toPage(state.at));
  } else if (!search) {
    const was = sessionStorage.getItem(kept());
    if (was) {
      const { q, ways, at, n } = JSON.parse(was);
      find(q, ways).then(() => at && toPage(at, n, true));
    }
  } else if (search.seen !== state.seen) {
    const at = search.result.pages[search.page]?.key;
    const n = search.n;
    find(search.q, search.ways).then(() => toPage(at, n, true));
  } else {
    told();
  }
}

function params(q, ways) {
  const p = new URLSearchParams({ q });
  for (const [k, on] of Object.entries(ways)) if (on) p.set(k, "yes");
  return p;
}

// find looks for words; it gives the result, a sentence where that can't be, or nothing where a later search came between.
export async function find(q, ways) {
  const mine = ++asked;
  if (!q.trim()) {
    end();
    return null;
  }
  const got = await answer(`/desk/${state.doc}/find?${params(q, ways)}`);
  if (mine !== asked) return null;
  if (!got.status) return null; // the page is left, or the connection lost: what was looked for stays
  if (!got.ok) {
    end();
    return { said: got.text().trim(), problem: true };
  }
  const result = got.json();
  search = { doc: state.doc, seen: state.seen, q, ways, result, page: -1, n: 0 };
  keep();
  told();
  return result;
}

function keep() {
  const at = search.result.pages[search.page]?.key ?? "";
  sessionStorage.setItem(kept(), JSON.stringify({ q: search.q, ways: search.ways, at, n: search.n }));
}

// told shows the matches where this station can.
function told() {
  surfaces.strip?.found(new Map(search?.result.pages.map((p) => [p.key, p.hits])));
  where();
  looked();
}

function where() {
  const line = el("found");
  if (!line) return;
  line.hidden = !active();
  if (!active()) return;
  const { result, q } = search;
  const before = result.pages.slice(0, Math.max(0, search.page)).reduce((sum, p) => sum + p.hits, 0);
  const more = result.more ? "more than " : "";
  el("found-where").textContent =
    search.page < 0 ? `“${q}”: ${more}${count(result.hits, "match", "matches")} on ${count(result.pages.length, "page")}` : `“${q}”: match ${(before + search.n + 1).toLocaleString("en")} of ${more}${result.hits.toLocaleString("en")}`;
}

// choose keeps which match is gone to, for the station that comes next.
export function choose(at, n) {
  search.page = search.result.pages.findIndex((p) => p.key === at);
  search.n = n;
  keep();
}

// toPage goes to a match of a page, or of the next page that has one.
export function toPage(at, n = 0, quiet = false) {
  if (!active()) return;
  let i = search.result.pages.findIndex((p) => p.key === at);
  if (i < 0) {
    const from = index(at);
    i = search.result.pages.findIndex((p) => index(p.key) >= from);
    n = 0;
    if (i < 0) i = 0;
  }
  search.page = i;
  search.n = Math.min(n, search.result.pages[i].hits - 1);
  keep();
  where();
  if (quiet && search.result.pages[i].key !== state.at) return;
  if (search.result.pages[i].key !== state.at) look(search.result.pages[i].key);
  else looked(true);
}

function step(by) {
  const pages = search.result.pages;
  if (search.page < 0) {
    // From the page that is looked at on, or back.
    const from = index(state.at);
    const on = pages.findIndex((p) => index(p.key) >= from);
    const i = by > 0 ? (on < 0 ? 0 : on) : (on <= 0 ? pages.length : on) - 1;
    toPage(pages[i].key, by > 0 ? 0 : pages[i].hits - 1);
    return;
  }
  let { page: i, n } = search;
  n += by;
  if (n >= pages[i].hits) {
    i = (i + 1) % pages.length;
    n = 0;
  } else if (n < 0) {
    i = (i - 1 + pages.length) % pages.length;
    n = pages[i].hits - 1;
  }
  toPage(pages[i].key, n);
}

export function end() {
  asked++;
  search = null;
  sessionStorage.removeItem(kept());
  surfaces.strip?.found(new Map());
  surfaces.paper?.group("hits");
  surfaces.paper?.notes("hits", []);
  where();
}

// looked marks the matches of the page that is looked at.
async function looked(reveal = true) {
  const { paper } = surfaces;
  if (!paper?.now) return;
  const now = search?.result.pages.find((p) => p.key === state.at);
  const here = page(state.at);
  if (!now || !here) {
    paper.group("hits");
    paper.notes("hits", []);
    return;
  }
  const mine = search;
  if (drawn?.search !== search || drawn.key !== state.at) {
    const got = await answer(`/desk/${state.doc}/hits/${here.key}?${params(search.q, search.ways)}`);
    if (!got.ok || search !== mine || state.at !== here.key || surfaces.paper !== paper) return;
    drawn = { search, key: here.key, hits: got.json() };
  }
  const g = paper.group("hits");
  const current = search.result.pages[search.page]?.key === state.at ? search.n : -1;
  const notes = [];
  drawn.hits.forEach((pieces, i) => {
    for (const q of pieces) g.append(paper.polygon(q, i === current ? "hit now" : "hit"));
    const line = now.lines?.find((l) => l.n === i);
    if (line && pieces.length) {
      const y = Math.min(...pieces.map((q) => bounds(q)[1]));
      notes.push({ y, now: i === current, before: tail(line.before), text: line.text, after: head(line.after), go: () => toPage(state.at, i) });
    }
  });
  paper.notes("hits", notes);
  if (reveal && current >= 0 && drawn.hits[current]?.length) paper.reveal(drawn.hits[current][0]);
}

// lines gives the lines of the result for the finder's list.
export function lines(most) {
  const out = [];
  for (const p of search?.result.pages ?? []) {
    for (const l of p.lines ?? []) {
      if (out.length >= most) return out;
      out.push({ page: p.key, number: p.number, ...l });
    }
  }
  return out;
}
