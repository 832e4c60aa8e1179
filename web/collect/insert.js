// Inserting pages: the first of them is shown, wherever it comes to stand.
import { startPreview } from "../sentence/preview.js";

export function mount({ slip, paper, strip, signal }) {
  const form = slip.querySelector("#insert-form");
  if (form) startPreview(form, { paper, strip, signal, wants: (f) => f.elements.from.value !== "" });
}
