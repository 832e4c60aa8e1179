// What a page is and what it will be, on one another: an edge that is drawn across it parts the two.
import { state, page, picture } from "../state.js";

let at = 50; // hundredths of the width; it stays where it was put

// startParting lays another picture over that of the page, left of the edge: of the page as it is while a preview is shown; or what before
// gives, an address, or nothing where there is none. words name the two sides. It gives a function that brings it up to date.
export function startParting(paper, signal, { before: other, words = ["before", "after"] } = {}) {
  const before = Object.assign(document.createElement("img"), { alt: "", className: "before", draggable: false });
  const edge = Object.assign(document.createElement("div"), { className: "parting", tabIndex: 0 });
  edge.setAttribute("role", "slider");
  edge.setAttribute("aria-label", `Slider between ${words[0]} and ${words[1]}`);
  edge.setAttribute("aria-valuemin", "0");
  edge.setAttribute("aria-valuemax", "100");
  for (const [i, name] of ["was", "will"].entries()) edge.append(Object.assign(document.createElement("span"), { className: name, textContent: words[i] }));
  paper.img.after(before);
  paper.paper.append(edge);

  const put = (v) => {
    at = Math.max(0, Math.min(100, v));
    before.style.clipPath = `inset(0 ${100 - at}% 0 0)`;
    edge.style.left = `${at}%`;
    edge.setAttribute("aria-valuenow", String(Math.round(at)));
    edge.setAttribute("aria-valuetext", `${Math.round(at)}% ${words[0]}`);
    edge.classList.toggle("at-left", at < 12);
    edge.classList.toggle("at-right", at > 88);
  };

  // There is something to compare while a preview is shown.
  const drawn = () => {
    const p = page(state.at);
    const of = other ? other() : paper.img.src.startsWith("blob:") && p ? picture(p, Math.max(paper.now.w, paper.now.h)) : null;
    before.hidden = edge.hidden = !of;
    if (of) {
      const src = of;
      if (before.getAttribute("src") !== src) before.src = src;
    }
  };
  const watch = new MutationObserver(drawn);
  watch.observe(paper.img, { attributeFilter: ["src"] });

  edge.addEventListener("pointerdown", (e) => {
    e.preventDefault();
    edge.focus({ preventScroll: true });
    edge.setPointerCapture(e.pointerId);
  }, { signal });
  edge.addEventListener("pointermove", (e) => {
    if (edge.hasPointerCapture(e.pointerId)) put((100 * paper.point(e)[0] * paper.now.s) / paper.now.w);
  }, { signal });
  edge.addEventListener("keydown", (e) => {
    const by = { ArrowLeft: -2, ArrowRight: 2, PageUp: 20, PageDown: -20, Home: -100, End: 100 }[e.key];
    if (!by) return;
    e.preventDefault();
    e.stopPropagation();
    put(at + by);
  }, { signal });
  signal.addEventListener("abort", () => {
    watch.disconnect();
    before.remove();
    edge.remove();
  }, { once: true });
  put(at);
  drawn();
  return drawn;
}
