// Page numbers: a sentence with a wording of text and chips, previewed on the page.
import { startPreview } from "../sentence/preview.js";
import { startChips } from "../sentence/chips.js";

export function mount({ slip, paper, strip, signal }) {
  const form = slip.querySelector("#number-form");
  if (!form) return;
  startChips(form, signal);
  startPreview(form, { paper, strip, signal });
}
