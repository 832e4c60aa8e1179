// A sentence whose step is previewed on the page: each change of a value is run on the server as the step itself, and shown. A form
// says with data-preview that it wants this; with data-preview="new" the view stands on what the step brings, wherever that is.
import { count } from "../dom.js";
import { state, page, look, on } from "../state.js";
import { pageSet } from "./pageset.js";
import { startFields, showFieldErrors, fieldError } from "./fields.js";

const patience = 180; // ms after the last change

// startPreview wires a form; wants, where given, tells whether the form can be previewed yet.
export function startPreview(form, { paper, strip, signal, wants = () => true }) {
  const said = form.querySelector("[data-said]");
  const button = form.querySelector("[data-outcome]");
  const brings = form.dataset.preview === "new";
  let asked = 0;
  let timer = 0;
  let going = false; // the view is being led to what is shown
  let touched = new Set(); // keys of the pages that the step concerns

  startFields(form, signal);
  form.addEventListener("input", () => {
    clearTimeout(timer);
    timer = setTimeout(() => preview(), patience);
  }, { signal });
  form.addEventListener("change", (e) => e.target.matches("select") && (clearTimeout(timer), preview()), { signal });
  on("look", () => going || preview(true), signal);
  on("resized", () => preview(true), signal);
  signal.addEventListener("abort", () => clearTimeout(timer), { once: true });

  function none(sentence = "") {
    said.classList.toggle("problem", sentence !== "");
    said.textContent = sentence;
    button.disabled = true;
    touched = new Set();
    strip?.touch([]);
    paper.show();
  }

  // ask runs the step on the server; nothing comes where the form is gone meanwhile, or the connection.
  async function ask(data) {
    try {
      const got = await fetch(`/desk/${state.doc}/preview/${form.dataset.step}`, { method: "POST", body: data, signal });
      if (!got.ok) return { ok: false, bad: got.headers.get("Bad-Fields"), text: await got.text() };
      return { ok: true, v: JSON.parse(decodeURIComponent(got.headers.get("Preview"))), blob: await got.blob() };
    } catch {
      return null;
    }
  }

  // preview runs the step and shows the page that is looked at if it will change; else the first one that will is gone to. looked: the
  // values are the same, and the view stays.
  async function preview(looked = false) {
    const mine = ++asked;
    if (!wants(form)) {
      button.disabled = true;
      return;
    }
    const at = state.at;
    if (looked && touched.size && !touched.has(at) && !brings) return; // this page stays as it is
    const data = new URLSearchParams(new FormData(form));
    data.set("_page", brings ? "" : at);
    data.set("_else", looked ? "" : "yes");
    data.set("_box", paper.box());
    const got = await ask(data);
    if (!got || mine !== asked) return;
    for (const field of form.querySelectorAll("[aria-invalid]")) fieldError(field, "");
    if (!got.ok) {
      const left = got.bad ? showFieldErrors(JSON.parse(decodeURIComponent(got.bad)), form) : [got.text];
      none(left.join(" ") || "One of the values isn’t valid.");
      return;
    }
    const { v, blob } = got;
    const indexes = v.set ? pageSet(v.set, state.pages.length) ?? [] : [];
    touched = new Set(indexes.map((i) => state.pages[i].key));
    strip?.touch(indexes);
    button.disabled = false;
    button.textContent = button.hasAttribute("data-alone") ? button.dataset.outcome : `${button.dataset.outcome} ${count(v.pages, "page")}`;
    said.classList.remove("problem");
    said.textContent = (v.warnings ?? []).join("\n");
    if (looked && touched.size && !touched.has(at) && !brings) {
      paper.show(); // this page stays as it is
      return;
    }
    if (page(v.show) && v.show !== state.at) {
      going = true; // going there must not ask again
      look(v.show);
      going = false;
    }
    paper.preview(blob, v);
    paper.spot(v.spot ?? null);
  }

  preview();
}
