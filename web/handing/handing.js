// Handing out several documents: names are shown while the pattern is written, and what is wrong with them before anything is done.
import { el, count, answer } from "../dom.js";
import { startChips } from "../sentence/chips.js";
import { startFolders } from "../sentence/folder.js";

export function start() {
  const form = el("handing-form");
  let asked = 0;
  let timer = 0;

  const pattern = () => [...form.querySelectorAll(".wording > .piece")].map((p) => (p.dataset.field ? { field: p.dataset.field } : { text: p.querySelector("input").value }));

  function when() {
    for (const part of form.querySelectorAll("[data-when]")) part.hidden = part.dataset.when !== form.elements.into.value;
    const p = pattern();
    form.elements.pattern.value = JSON.stringify(p);
    el("typed-place").hidden = !p.some((x) => x.field === "typed");
  }

  function words() {
    const t = el("plan").firstElementChild;
    const wrong = Number(t.dataset.wrong);
    const n = Number(t.dataset.count);
    const zip = form.elements.into.value === "zip";
    el("asks-place").hidden = t.dataset.asks === "0";
    const asks = Number(t.dataset.asks) > 0 && !form.elements["as-it-is"].checked;
    el("handing-do").textContent = `Export ${count(zip ? n : n - wrong, "file")}${zip ? " in a zip" : ""}`;
    el("handing-do").disabled = (zip && wrong > 0) || n - wrong === 0 || asks;
  }

  async function plan() {
    when();
    const mine = ++asked;
    const got = await answer("/handing/plan", { method: "POST", body: new URLSearchParams(new FormData(form)) });
    if (mine !== asked) return;
    if (got.ok) {
      el("plan").innerHTML = got.text();
      words();
    } else {
      el("handing-do").disabled = true;
      el("message").textContent = got.text().trim();
    }
  }

  startChips(form);
  startFolders(form);
  form.addEventListener("input", () => {
    clearTimeout(timer);
    el("message").replaceChildren();
    timer = setTimeout(plan, 150);
  });
  when();
  words();
}
