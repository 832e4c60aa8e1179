// What every screen needs: the finder, dialogs, keys, messages; and the script that the screen names.
import { el, script } from "./dom.js";
import { startFinder } from "./finder.js";
import { startKeys } from "./keys.js";
import { startDesk } from "./desk.js";
import { showFieldErrors } from "./sentence/fields.js";

startKeys();
startFinder();

document.addEventListener("click", (e) => {
  const opens = e.target.closest?.("[data-opens]");
  if (opens) el(opens.dataset.opens).showModal();
  const unfolds = e.target.closest?.("[data-unfolds]");
  if (unfolds) unfolds.setAttribute("aria-expanded", String(el(unfolds.dataset.unfolds).classList.toggle("unfolded")));
  const closes = e.target.closest?.("[data-closes]");
  if (closes) el(closes.dataset.closes).replaceChildren();
  for (const d of document.querySelectorAll("details.me[open], details.trail-do[open]")) if (!d.contains(e.target)) d.open = false;
});

// A box that is not ticked says no, and a field that may be empty says nothing.
document.addEventListener("formdata", (e) => {
  for (const box of e.target.querySelectorAll("input[data-no]:not(:checked, :disabled)")) e.formData.append(box.name, "no");
  for (const f of e.target.querySelectorAll("input[data-optional]")) if (!f.value.trim()) e.formData.delete(f.name);
});

document.addEventListener("htmx:after:swap", () => {
  if (el("look")?.childElementCount && !el("look").open) el("look").showModal();
  const wrong = document.querySelector("#look[open] .values-said"); // what is refused is said where it was asked for
  if (wrong) wrong.textContent = document.querySelector("#message .said.problem p")?.textContent ?? "";
  const said = document.querySelector("#message [data-fields]");
  if (said) showFieldErrors(JSON.parse(said.dataset.fields));
});
el("look")?.addEventListener("close", () => el("look").replaceChildren());

const ready = () => (document.body.dataset.ready = "yes"); // keys and pointer are heard from here on
if (document.body.dataset.screen === "desk") startDesk().then(ready);
else if (document.body.dataset.module) script(document.body.dataset.module).then((m) => m?.start()).then(ready);
else ready();
