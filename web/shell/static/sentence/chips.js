// A wording: pieces of text, and values as chips between them, that are added and removed. The pieces to add stand in templates
// named piece-KIND.
export function startChips(form, signal) {
  const changed = () => form.dispatchEvent(new Event("input", { bubbles: true }));
  form.addEventListener("click", (e) => {
    const add = e.target.closest("[data-add]");
    const off = e.target.closest(".piece-off");
    if (add) {
      const piece = document.getElementById(`piece-${add.dataset.add}`).content.firstElementChild.cloneNode(true);
      form.querySelector(".wording").append(piece);
      piece.querySelector("input:not([type=hidden])")?.focus();
      changed();
    } else if (off) {
      const next = off.closest(".piece").nextElementSibling?.querySelector("input:not([type=hidden]), button") ?? form.querySelector("[data-add]");
      off.closest(".piece").remove();
      next?.focus();
      changed();
    }
  }, { signal });
}
