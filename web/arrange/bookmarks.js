// Bookmarks: a tree that is gone through, changed and ordered by keys or with the mouse, and made of headings.
import { el, count, answer } from "../dom.js";
import { press } from "../gesture/press.js";
import { state, index, page } from "../state.js";

let at = ""; // the bookmark that is selected, by its place
const mostHeads = 400; // headings of one page or all that are listed

export function mount({ slip, signal }) {
  const tree = el("tree");
  const items = tree ? [...tree.children] : [];
  const form = (name) => el(`${name}-form`);
  const find = (place) => items.find((li) => li.dataset.at === place);
  let cur = find(at) ?? null;

  // --- the tree

  function choose(li, go = true) {
    cur = li;
    at = li?.dataset.at ?? "";
    for (const x of items) {
      x.setAttribute("aria-selected", String(x === li));
      x.classList.toggle("selected", x === li);
    }
    if (li) {
      tree.setAttribute("aria-activedescendant", li.id);
      li.scrollIntoView({ block: "nearest" });
    }
    el("mark-do").hidden = !li;
    el("add-below").hidden = !li;
    if (!li) return;
    for (const name of ["change", "move", "remove"]) form(name).elements.at.value = li.dataset.at;
    form("change").elements.title.value = li.dataset.title;
    el("mark-below").hidden = li.dataset.kids === "0";
    if (go && li.dataset.page && page(li.dataset.page)) state.look(li.dataset.page);
  }

  tree?.addEventListener("keydown", (e) => {
    const i = items.indexOf(cur);
    if (e.altKey && /^Arrow/.test(e.key)) shift({ ArrowUp: "up", ArrowDown: "down", ArrowRight: "in", ArrowLeft: "out" }[e.key]);
    else if (e.key === "ArrowDown") choose(items[Math.min(items.length - 1, i + 1)]);
    else if (e.key === "ArrowUp") choose(items[Math.max(0, i - 1)]);
    else if (e.key === "Home") choose(items[0]);
    else if (e.key === "End") choose(items.at(-1));
    else if (e.key === "ArrowLeft" && cur) choose(find(cur.dataset.under) ?? cur);
    else if (e.key === "ArrowRight" && cur) choose(items[i + 1]?.dataset.under === cur.dataset.at ? items[i + 1] : cur);
    else if ((e.key === "Enter" || e.key === "F2") && cur) form("change").elements.title.select();
    else if (e.key === "Delete" && cur) form("remove").requestSubmit();
    else return;
    e.preventDefault();
    e.stopPropagation();
  }, { signal });
  tree?.addEventListener("focus", () => !cur && items.length && choose(items[0], false), { signal });

  // shift moves the selected bookmark by one place, or one level.
  function shift(how) {
    if (!cur) return;
    const { under, place } = cur.dataset;
    const n = Number(place);
    const last = items.filter((x) => x.dataset.under === under).length;
    if (how === "up" && n > 1) to(under, n - 1, under ? `${under}.${n - 1}` : String(n - 1));
    else if (how === "down" && n < last) to(under, n + 2 > last ? 0 : n + 2, under ? `${under}.${n + 1}` : String(n + 1));
    else if (how === "in" && n > 1) {
      const above = under ? `${under}.${n - 1}` : String(n - 1);
      to(above, 0, `${above}.${items.filter((x) => x.dataset.under === above).length + 1}`);
    } else if (how === "out" && under) {
      const parts = under.split(".");
      const up = parts.slice(0, -1).join(".");
      const next = Number(parts.at(-1)) + 1;
      to(up, next > items.filter((x) => x.dataset.under === up).length ? 0 : next, up ? `${up}.${next}` : String(next));
    } else return;
  }

  function to(under, before, then) {
    const f = form("move");
    f.elements.at.value = cur.dataset.at;
    f.elements.under.value = under;
    f.elements.before.value = String(before);
    at = then;
    f.requestSubmit();
  }
  slip.addEventListener("click", (e) => {
    const how = e.target.closest("[data-shift]")?.dataset.shift;
    if (how) shift(how);
  }, { signal });

  // A bookmark is dragged between others: further to the right is further down in the tree.
  tree?.addEventListener("pointerdown", (e) => {
    const li = e.target.closest("li");
    if (!li || e.button !== 0) return;
    tree.focus({ preventScroll: true });
    e.preventDefault();
    const line = Object.assign(document.createElement("div"), { className: "mark-line", hidden: true });
    let spot = null;
    press(e, {
      scrolls: tree, signal,
      start: () => {
        choose(li, false);
        tree.append(line);
        li.classList.add("carrying");
      },
      move: (x, y) => {
        spot = place(li, x, y);
        line.hidden = !spot;
        if (!spot) return;
        line.style.top = `${spot.top}px`;
        line.style.left = `${12 + 16 * (spot.level - 1)}px`;
        line.textContent = spot.said;
      },
      end: () => {
        line.remove();
        li.classList.remove("carrying");
        if (spot) to(spot.under, spot.before, "");
      },
      cancel: () => {
        line.remove();
        li.classList.remove("carrying");
      },
      click: () => choose(li),
    });
  }, { signal });

  // place tells where a bookmark that is let go of would stand; null where it stands there already, or can't.
  function place(li, x, y) {
    const r = tree.getBoundingClientRect();
    const rows = items.filter((i) => !`${i.dataset.at}.`.startsWith(`${li.dataset.at}.`));
    const after = rows.findLast((i) => i.getBoundingClientRect().top + i.offsetHeight / 2 < y) ?? null;
    const next = rows[after ? rows.indexOf(after) + 1 : 0];
    const most = after ? Number(after.getAttribute("aria-level")) + 1 : 1;
    const least = next ? Number(next.getAttribute("aria-level")) : 1;
    const level = Math.max(least, Math.min(most, 1 + Math.round((x - r.left - 20) / 16)));
    const top = after ? after.offsetTop + after.offsetHeight : 0;
    if (level === most && after) return { under: after.dataset.at, before: 1, level, top, said: `below “${after.dataset.title}”` };
    if (!after) return { under: "", before: 1, level: 1, top, said: "as the first" };
    const parts = after.dataset.at.split(".").slice(0, level);
    const under = parts.slice(0, -1).join(".");
    const sibling = items.find((i) => i.dataset.at === parts.join("."));
    const n = Number(parts.at(-1));
    const last = items.filter((i) => i.dataset.under === under).length;
    return { under, before: n + 1 > last ? 0 : n + 1, level, top, said: `after “${sibling.dataset.title}”` };
  }

  // --- aiming, adding

  const top = () => (seen.top >= 0 ? String(Math.round(seen.top * 10) / 10) : "-1");
  const seen = { top: -1 };

  el("mark-aim").addEventListener("click", () => {
    const f = form("change");
    f.elements.page.value = state.at;
    f.elements.top.value = "-1";
    f.elements.title.value = cur.dataset.title;
    f.requestSubmit();
  }, { signal });

  form("add").addEventListener("submit", () => {
    const f = form("add");
    f.elements.page.value = state.at;
    f.elements.top.value = top();
    f.elements.under.value = "";
    f.elements.before.value = "0";
    if (cur && el("add-in").value === "below") f.elements.under.value = cur.dataset.at;
    else if (cur && el("add-in").value === "after") {
      const n = Number(cur.dataset.place);
      f.elements.under.value = cur.dataset.under;
      f.elements.before.value = n < items.filter((x) => x.dataset.under === cur.dataset.under).length ? String(n + 1) : "0";
    }
  }, { signal, capture: true });
  form("add").elements.title.addEventListener("input", () => (seen.top = seen.title === form("add").elements.title.value ? seen.top : -1), { signal });

  // The headings of the page that is looked at are offered as titles.
  let asked = 0;
  async function heads() {
    const mine = ++asked;
    const at = state.at;
    el("add-where").textContent = `page ${state.called(index(at))}`;
    const got = await answer(`/desk/${state.doc}/arrange/headings?page=${at}`, { signal });
    if (mine !== asked || signal.aborted || !got.ok) return;
    const list = got.json().headings.slice(0, 8);
    const offers = list.map((h) => {
      const b = Object.assign(document.createElement("button"), { type: "button", className: "btn btn-link btn-sm head-offer", textContent: h.title });
      b.addEventListener("click", () => {
        form("add").elements.title.value = h.title;
        Object.assign(seen, { top: h.top, title: h.title });
        form("add").elements.title.focus();
      });
      return b;
    });
    el("add-heads").replaceChildren(...(offers.length ? ["On this page: ", ...offers] : []));
  }
  state.on("look", () => {
    seen.top = -1;
    heads();
  }, signal);
  heads();

  // --- made of headings: shown before it is done

  el("head-find").addEventListener("click", async () => {
    const said = el("heads-said");
    said.hidden = false;
    said.textContent = "Looking for headings …";
    const got = await answer(`/desk/${state.doc}/arrange/headings?levels=${el("head-levels").value}`, { signal });
    if (signal.aborted) return;
    const list = got.ok ? got.json().headings : [];
    said.hidden = list.length > 0;
    said.textContent = got.ok ? "No headings found: no text is larger or bolder than the rest." : got.text().trim();
    form("make").hidden = !list.length;
    el("heads").replaceChildren(...list.slice(0, mostHeads).map((h, i) => {
      const li = document.createElement("li");
      li.className = `depth-${h.level - 1}`;
      const label = document.createElement("label");
      label.className = "choice";
      const take = Object.assign(document.createElement("input"), { type: "checkbox", checked: true });
      take.dataset.head = i;
      label.append(take, h.title);
      const b = Object.assign(document.createElement("button"), { type: "button", className: "trail-go num", textContent: state.called(index(h.page)) });
      b.setAttribute("aria-label", `Go to page ${state.called(index(h.page))}`);
      b.addEventListener("click", () => state.look(h.page));
      li.append(label, b);
      return li;
    }));
    form("make").heads = list;
    counted();
  }, { signal });

  function counted() {
    const f = form("make");
    const off = new Set([...el("heads").querySelectorAll("input:not(:checked)")].map((x) => Number(x.dataset.head)));
    const taken = (f.heads ?? []).filter((_, i) => !off.has(i));
    el("make-do").textContent = `Create ${count(taken.length, "bookmark")}`;
    el("make-do").disabled = !taken.length;
    for (const old of f.querySelectorAll("input[name^='entries.']")) old.remove();
    for (const h of taken) {
      for (const [k, v] of Object.entries({ title: h.title, level: h.level, page: h.page, top: `${h.top}pt` })) f.append(Object.assign(document.createElement("input"), { type: "hidden", name: `entries.${k}`, value: v }));
    }
  }
  el("heads").addEventListener("change", counted, { signal });

  choose(cur, false);
}
