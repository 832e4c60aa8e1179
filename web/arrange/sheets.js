// Sheets to print: the first of them is shown.
import { startPreview } from "../sentence/preview.js";

export function mount({ slip, paper, strip, signal }) {
  const form = slip.querySelector("#sheets-form");
  const when = () => {
    const on = [form.elements.kind.value, form.elements.fold.value];
    for (const part of form.querySelectorAll("[data-when]")) part.hidden = !on.includes(part.dataset.when);
  };
  form.addEventListener("change", when, { signal });
  when();
  startPreview(form, { paper, strip, signal });
}
