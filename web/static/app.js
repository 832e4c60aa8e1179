// What every screen needs: the finder, dialogs, keys; and which script a screen has.
import { startFinder } from "./finder.js";
import { startDocuments } from "./documents.js";
import { startDesk } from "./desk.js";
import { typing } from "./keys.js";

startFinder();

for (const b of document.querySelectorAll("[data-opens]")) wireOpener(b);
document.addEventListener("htmx:after:swap", () => {
  for (const b of document.querySelectorAll("[data-opens]")) wireOpener(b);
});

function wireOpener(button) {
  button.onclick = () => document.getElementById(button.dataset.opens).showModal();
}

document.addEventListener("keydown", (e) => {
  if (e.ctrlKey || e.metaKey || e.altKey || typing(e.target)) return;
  if (e.key === "?") {
    e.preventDefault();
    document.getElementById("keys")?.showModal();
  }
});

document.addEventListener("click", (e) => {
  for (const d of document.querySelectorAll("details.me[open]")) if (!d.contains(e.target)) d.open = false;
});

const screen = document.body.dataset.screen;
if (screen === "documents") startDocuments();
if (screen === "desk") startDesk();
document.body.dataset.ready = "yes"; // keys and pointer are heard from here on
