// Handing out: what happens when a name is taken is told while it is written.
import { el, answer } from "../dom.js";
import { state } from "../state.js";
import { startFolders } from "../sentence/folder.js";

export function mount({ signal }) {
  const form = el("out-form");
  const said = el("name-taken");
  let asked = 0;
  let timer = 0;
  startFolders(form, signal);

  async function look() {
    const mine = ++asked;
    if (form.elements.how.value === "replace") {
      said.hidden = true;
      return;
    }
    const got = await answer(`/desk/${state.doc}/release/name?name=${encodeURIComponent(form.elements.name.value)}`, { signal });
    if (mine !== asked || signal.aborted || !got.ok) return;
    const v = got.json();
    said.hidden = !v.taken;
    said.textContent = v.taken ? `A file with this name was exported before and won’t be overwritten. “${v.free}” is available.` : "";
  }
  form.addEventListener("input", (e) => {
    if (e.target.name !== "name" && e.target.name !== "how") return;
    clearTimeout(timer);
    timer = setTimeout(look, 200);
  }, { signal });
  signal.addEventListener("abort", () => clearTimeout(timer), { once: true });
}
