// Pressing and dragging, written once: a press becomes a drag when it has gone far enough; Esc and a lost pointer end it without
// an effect; near the edges of a box that scrolls, it scrolls.
const far = 5; // pixels until a press is a drag
const edge = 40; // pixels from an edge where scrolling begins
const speed = 18; // pixels a frame

// press follows a pointer from pointerdown on:
//   start(e)  once, when it becomes a drag; false keeps it a press
//   move(x, y, e)  while it is dragged, also when the box scrolls under it
//   key(x, y, e)   when a key that changes what a drag means goes down or up
//   end(e)    dragged and let go        cancel()  dragged and given up
//   click(e)  let go without a drag
// scrolls is the box that scrolls, near: 0 makes any press a drag at once. signal ends it like Esc.
export function press(down, { start, move, key, end, cancel, click, scrolls, near = far, signal }) {
  const own = new AbortController();
  const from = { x: down.clientX, y: down.clientY };
  let dragging = false;
  let ended = false;
  let timer = 0;
  let last = down;
  const finish = (e, kept) => {
    if (ended) return;
    ended = true;
    own.abort();
    clearInterval(timer);
    if (dragging) kept ? end?.(e) : cancel?.();
    else if (kept) click?.(e);
  };
  const scroll = (x, y, e) => {
    clearInterval(timer);
    if (!scrolls) return;
    const r = scrolls.getBoundingClientRect();
    const dy = y < r.top + edge ? -1 : y > r.bottom - edge ? 1 : 0;
    const dx = scrolls.scrollWidth > scrolls.clientWidth ? (x < r.left + edge ? -1 : x > r.right - edge ? 1 : 0) : 0;
    if (!dx && !dy) return;
    timer = setInterval(() => {
      scrolls.scrollBy(dx * speed, dy * speed);
      move?.(x, y, e);
    }, 16);
  };
  const begin = (e) => {
    if (start?.(e) === false) return false;
    dragging = true;
    return true;
  };
  document.addEventListener("pointermove", (e) => {
    if (e.pointerId !== down.pointerId) return;
    if (!dragging && (Math.hypot(e.clientX - from.x, e.clientY - from.y) < near || !begin(e))) return;
    last = e;
    move?.(e.clientX, e.clientY, e);
    scroll(e.clientX, e.clientY, e);
  }, { signal: own.signal });
  document.addEventListener("pointerup", (e) => e.pointerId === down.pointerId && finish(e, true), { signal: own.signal });
  document.addEventListener("pointercancel", (e) => e.pointerId === down.pointerId && finish(e, false), { signal: own.signal });
  for (const type of ["keydown", "keyup"]) {
    document.addEventListener(type, (e) => {
      if (dragging && /^(Control|Meta|Shift|Alt)$/.test(e.key)) key?.(last.clientX, last.clientY, e);
    }, { signal: own.signal });
  }
  document.addEventListener("keydown", (e) => {
    if (e.key !== "Escape") return;
    e.preventDefault();
    e.stopPropagation();
    finish(e, false);
  }, { capture: true, signal: own.signal });
  signal?.addEventListener("abort", () => finish(down, false), { once: true, signal: own.signal });
  if (near === 0) begin(down);
}
