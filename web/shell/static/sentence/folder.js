// A folder of the house, found by typing a part of its name; what is in it is shown.
import { answer } from "../dom.js";

// startFolders wires the folder fields within an element.
export function startFolders(root, signal) {
  for (const place of root.querySelectorAll(".folder-field")) {
    const [id, field] = place.querySelectorAll("input");
    const hits = place.querySelector(".folder-hits");
    let asked = 0;
    let at = -1;
    let chosen = field.value;
    const choices = () => [...hits.querySelectorAll("[data-folder]")];
    const point = (i) => {
      at = Math.max(-1, Math.min(choices().length - 1, i));
      choices().forEach((b, k) => b.setAttribute("aria-selected", String(k === at)));
      choices()[at]?.scrollIntoView({ block: "nearest" });
    };
    const hide = () => {
      hits.hidden = true;
      field.setAttribute("aria-expanded", "false");
    };
    const take = (b) => {
      id.value = b?.dataset.folder ?? "";
      field.value = chosen = b?.dataset.path ?? "";
      hide();
      id.dispatchEvent(new Event("input", { bubbles: true }));
    };
    let looking = Promise.resolve();
    async function search() {
      const mine = ++asked;
      const got = await answer(`/folders/find?words=${encodeURIComponent(field.value === chosen ? "" : field.value)}`);
      if (mine !== asked || signal?.aborted || !got.ok) return;
      hits.innerHTML = got.text();
      hits.hidden = false;
      field.setAttribute("aria-expanded", "true");
      point(field.value.trim() && field.value !== chosen ? 0 : -1);
    }
    const look = () => (looking = search());
    field.addEventListener("input", (e) => {
      e.stopPropagation(); // the form is told when a folder is chosen
      if (field.value.trim() === "") take(null);
      look();
    }, { signal });
    field.addEventListener("focus", () => {
      field.select();
      look();
    }, { signal });
    field.addEventListener("blur", () => setTimeout(() => {
      hide();
      field.value = chosen;
    }, 150), { signal });
    field.addEventListener("keydown", (e) => {
      if (e.key === "ArrowDown" || e.key === "ArrowUp") point(at + (e.key === "ArrowDown" ? 1 : -1));
      else if (e.key === "Enter") looking.then(() => choices()[Math.max(at, 0)] && take(choices()[Math.max(at, 0)]));
      else if (e.key === "Escape") hide();
      else return;
      e.preventDefault();
      e.stopPropagation();
    }, { signal });
    hits.addEventListener("mousedown", (e) => e.preventDefault(), { signal });
    hits.addEventListener("click", (e) => {
      const b = e.target.closest("[data-folder]");
      if (b) take(b);
    }, { signal });
  }
}
