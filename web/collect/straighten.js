// Straighten scans: the page as it is beside the page as it will be.
import { startPreview } from "../sentence/preview.js";
import { startCompare } from "./compare.js";

export function mount({ slip, paper, strip, signal }) {
  const form = slip.querySelector("#straighten-form");
  if (!form) return;
  startCompare(paper, signal);
  startPreview(form, { paper, strip, signal });
}
