// Replace words: each place is listed with what stands around it, and can be left.
import { el, count, answer, plain } from "../dom.js";
import { startPreview } from "../sentence/preview.js";
import { state, look } from "../state.js";

const patience = 250; // ms after the last change

export function mount({ paper, strip, signal }) {
  const form = el("replace-form");
  const left = new Set(); // names of hits that stay
  let asked = 0;
  let timer = 0;
  let was = ""; // what is looked for, as it was listed

  const looks = () => [...form.querySelectorAll("[name=find]")].some((f) => f.value !== "");
  startPreview(form, { paper, strip, signal, wants: looks });

  el("pair-add").addEventListener("click", () => {
    const pair = form.querySelector(".pair").cloneNode(true);
    for (const f of pair.querySelectorAll("input")) f.value = "";
    el("pairs").append(pair);
    pair.querySelector("[name=find]").focus();
  }, { signal });

  // A table of old and new that is pasted becomes pairs: two columns, parted by tabs, a line each.
  el("pairs").addEventListener("paste", (e) => {
    const rows = (e.clipboardData?.getData("text") ?? "").split(/\r?\n/).map((l) => l.split("\t")).filter((c) => c.length > 1 && c[0] !== "");
    if (!rows.length) return;
    e.preventDefault();
    const at = e.target.closest(".pair");
    rows.slice(0, 100).forEach(([find, now], i) => {
      const pair = i === 0 ? at : at.cloneNode(true);
      pair.querySelector("[name=find]").value = find;
      pair.querySelector("[name=with]").value = now;
      if (i > 0) el("pairs").append(pair);
    });
    form.dispatchEvent(new Event("input"));
  }, { signal });

  // list asks what would be changed.
  async function list() {
    const data = new URLSearchParams(new FormData(form));
    data.delete("leave");
    if (data.toString() === was) return;
    was = data.toString();
    left.clear();
    form.elements.leave.value = "";
    const mine = ++asked;
    if (!looks()) return draw({ hits: [], more: false });
    const got = await answer(`/desk/${state.doc}/edit/hits`, { method: "POST", body: data, signal });
    if (mine !== asked || signal.aborted) return;
    if (got.ok) draw(got.json());
    else draw({ hits: [], more: false, said: got.text() });
  }

  function draw({ hits, more, said }) {
    const can = hits.filter((h) => !h.why).length;
    const pages = new Set(hits.map((h) => h.page)).size;
    el("replace-count").textContent = said !== undefined ? plain(said) : !looks() ? "" : hits.length ? `${more ? "More than " : ""}${count(hits.length, "place")} on ${count(pages, "page")}${can < hits.length ? `; ${hits.length - can} can’t be changed` : ""}.` : "No matches on these pages.";
    el("replace-hits").replaceChildren(...hits.map((h) => {
      const li = document.createElement("li");
      const box = Object.assign(document.createElement("input"), { type: "checkbox", checked: !h.why, disabled: Boolean(h.why) });
      box.setAttribute("aria-label", `Replace “${h.found}” on page ${h.number}`);
      box.addEventListener("input", (e) => e.stopPropagation());
      box.addEventListener("change", () => {
        if (box.checked) left.delete(h.name);
        else left.add(h.name);
        form.elements.leave.value = [...left].join(" ");
        li.classList.toggle("left", !box.checked);
        form.dispatchEvent(new Event("input"));
      });
      const go = Object.assign(document.createElement("button"), { type: "button", className: "btn btn-link btn-sm", textContent: `Page ${h.number}` });
      go.addEventListener("click", () => look(h.page));
      const text = document.createElement("span");
      const del = Object.assign(document.createElement("del"), { textContent: h.found });
      const ins = Object.assign(document.createElement("ins"), { textContent: h.with });
      text.append(h.before, del, h.with ? " " : "", ins, h.after);
      li.append(box, go, text);
      const note = h.why || (h.face ? "set in " + h.face + ": this font lacks some letters" : "");
      if (note) li.append(Object.assign(document.createElement("small"), { textContent: note }));
      return li;
    }));
  }


  form.addEventListener("input", () => {
    clearTimeout(timer);
    timer = setTimeout(list, patience);
  }, { signal });
  form.addEventListener("change", (e) => e.target.matches("select") && list(), { signal });
  signal.addEventListener("abort", () => clearTimeout(timer), { once: true });
  form.querySelector("[name=find]").focus({ preventScroll: true });
}
