// Straighten scans: the page as it is beside the page as it will be.
import { startPreview } from "../sentence/preview.js";
import { startParting } from "../surface/parting.js";

export function mount({ slip, paper, strip, signal }) {
  const form = slip.querySelector("#straighten-form");
  if (!form) return;
  startParting(paper, signal);
  startPreview(form, { paper, strip, signal });
}
