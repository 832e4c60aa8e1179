// Places between pages on the board: pointed at and clicked, and shown as a caret or as cuts.

// gaps gives what shows them. click(before) is told the index of the page behind the place that was clicked.
export function gaps(board, signal, { click }) {
  const hover = mark("gap-hover");
  const caretEl = mark("gap-caret");
  const cuts = new Map(); // index -> element
  let caretAt = -1;

  function mark(name) {
    const el = document.createElement("div");
    el.className = `gap ${name}`;
    el.setAttribute("aria-hidden", "true");
    el.hidden = true;
    board.run.append(el);
    return el;
  }

  function put(el, before) {
    const i = Math.min(before, board.of.pages.length);
    const last = i === board.of.pages.length;
    const at = last ? i - 1 : i;
    const col = (at % board.columns) + (last ? 1 : 0);
    const row = Math.floor(at / board.columns);
    el.style.left = `${12 + col * board.cellW - 2}px`;
    el.style.top = `${12 + row * board.cellH + 6}px`;
    el.style.height = `${board.cellH - 12}px`;
    el.hidden = false;
  }

  // near gives the place that the pointer is close to; -1 where it is over a page.
  function near(e) {
    const r = board.el.getBoundingClientRect();
    const x = e.clientX - r.left - 12;
    const col = Math.round(x / board.cellW);
    if (Math.abs(x - col * board.cellW) > 13 || !board.over(e.clientX, e.clientY)) return -1;
    return board.before;
  }

  board.el.addEventListener("pointermove", (e) => {
    const at = near(e);
    hover.hidden = at < 0;
    if (at >= 0) put(hover, at);
    board.el.classList.toggle("between", at >= 0);
  }, { signal });
  board.el.addEventListener("pointerleave", () => (hover.hidden = true), { signal });
  board.el.addEventListener("pointerdown", (e) => {
    const at = near(e);
    if (at < 0 || e.button !== 0) return;
    e.preventDefault();
    e.stopImmediatePropagation(); // no frame is drawn, and no page selected
    board.el.focus({ preventScroll: true });
    click(at);
  }, { signal, capture: true });
  const again = () => {
    if (caretAt >= 0) put(caretEl, caretAt);
    for (const [i, el] of cuts) put(el, i);
  };
  const layout = board.layout.bind(board);
  board.layout = () => {
    layout();
    again();
  };
  signal.addEventListener("abort", () => board.el.classList.remove("between"), { once: true });

  return {
    caret(before) {
      caretAt = before;
      put(caretEl, before);
    },
    // show shows cuts ahead of the pages at those indexes, each with a word.
    show(list) {
      for (const el of cuts.values()) el.remove();
      cuts.clear();
      for (const { before, word } of list) {
        const el = mark("gap-cut");
        const b = document.createElement("b");
        b.textContent = word;
        el.append(b);
        cuts.set(before, el);
        put(el, before);
      }
    },
  };
}
