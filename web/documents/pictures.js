// Pictures to pages: what comes of the slip is shown whenever it changes.
import { answer, el } from "../dom.js";
import { selected } from "./select.js";

export function startPictures() {
  document.addEventListener("click", (e) => {
    if (e.target.closest("#tray-pictures")) location.href = `/documents/pictures?id=${selected().join(",")}`;
  });
  let timer = 0;
  document.addEventListener("input", (e) => {
    const form = e.target.closest?.("#pictures-form");
    if (!form) return;
    form.querySelector(".own-size").hidden = form.elements.paper.value !== "size";
    form.querySelector(".on-paper").hidden = form.elements.paper.value === "own";
    form.querySelector(".one-name").hidden = form.elements.as.value === "each";
    clearTimeout(timer);
    timer = setTimeout(() => show(form), 150);
  });
}

let asked = 0;
async function show(form) {
  const q = new URLSearchParams(new FormData(form));
  q.delete("_request");
  q.set("part", "placed");
  const no = ++asked;
  const got = await answer("/documents/pictures?" + q);
  if (no === asked && el("placed")) el("placed").innerHTML = got.ok ? got.text() : "";
}
