// The fields of a sentence: lengths that arrows make larger and smaller, a colour of one's own, and what is wrong with a field, said
// beside it.
import { nudge } from "./units.js";

// startFields wires the fields of a form.
export function startFields(form, signal) {
  form.addEventListener("keydown", (e) => {
    const by = { ArrowUp: 1, ArrowDown: -1 }[e.key];
    if (!by || !e.target.matches?.("input[data-unit]")) return;
    const was = e.target.value;
    e.target.value = nudge(was, by * (e.shiftKey ? 10 : 1), e.target.dataset.unit);
    e.preventDefault();
    if (e.target.value !== was) e.target.dispatchEvent(new Event("input", { bubbles: true }));
  }, { signal });
  form.addEventListener("input", (e) => {
    const own = form.querySelector(`[data-own-colour="${CSS.escape(e.target.name || "?")}"]`);
    if (own) own.hidden = !e.target.selectedOptions?.[0]?.hasAttribute("data-own");
    const of = e.target.dataset?.ownColour;
    if (of) form.elements[of].querySelector("option[data-own]").value = e.target.value;
    fieldError(e.target, "");
  }, { signal, capture: true });
}

// fieldError says beside a field what is wrong with it; with an empty sentence, nothing is.
export function fieldError(field, sentence) {
  const id = `wrong-${field.name}`;
  document.getElementById(id)?.remove();
  field.classList?.toggle("wrong", sentence !== "");
  if (!sentence) {
    field.removeAttribute?.("aria-invalid");
    field.removeAttribute?.("aria-describedby");
    return;
  }
  field.setAttribute("aria-invalid", "true");
  field.setAttribute("aria-describedby", id);
  const said = document.createElement("span");
  said.id = id;
  said.className = "field-wrong";
  said.textContent = sentence;
  field.after(said);
}

// showFieldErrors says what is wrong with the fields of a form: of the one that is given, or of the one that has them. It gives what could
// be said at no field.
export function showFieldErrors(list, form) {
  const left = [];
  for (const { field, sentence } of list) {
    const of = form ?? [...document.querySelectorAll("form[data-step]")].find((f) => f.elements[field]);
    const at = of?.elements[field];
    const one = at instanceof RadioNodeList ? at[0] : at;
    if (one && one.type !== "hidden") fieldError(one, sentence[0].toUpperCase() + sentence.slice(1));
    else left.push(sentence);
  }
  return left;
}
