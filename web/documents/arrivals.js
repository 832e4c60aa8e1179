// Files that arrive: many at once, each with its progress; what went wrong stands on top, what arrived is folded away; all or one can be
// cancelled; a locked one asks for its password in its row; the folders they come in are kept.
import { el, answer, count } from "../dom.js";
import { leads } from "../unapplied.js";
import { waiting } from "./waiting.js";

const atOnce = 2; // uploads that run beside one another
const tries = 3; // for one file, where the connection is lost on the way: the same request adds it once
const encodings = [["utf-8", "UTF-8"], ["utf-16le", "UTF-16, little endian"], ["utf-16be", "UTF-16, big endian"], ["windows-1252", "Windows-1252"]];

let batch = null; // the files on the way: {queue, running, totals}

export function startArrivals() {
  for (const type of ["dragover", "dragenter"]) {
    document.addEventListener(type, (e) => {
      if (![...(e.dataTransfer?.types ?? [])].includes("Files")) return;
      e.preventDefault();
      el("drop")?.classList.add("over");
    });
  }
  document.addEventListener("dragleave", (e) => {
    if (!e.relatedTarget) el("drop")?.classList.remove("over");
  });
  document.addEventListener("drop", async (e) => {
    const items = [...(e.dataTransfer?.items ?? [])];
    if (!e.dataTransfer?.files.length) return;
    e.preventDefault();
    el("drop")?.classList.remove("over");
    const entries = items.map((i) => i.webkitGetAsEntry?.()).filter(Boolean); // before the first await: they go with the event
    const plain = [...e.dataTransfer.files].map((file) => ({ file, name: file.name }));
    add(entries.some((x) => x.isDirectory) ? await walk(entries) : plain);
  });
  document.addEventListener("change", (e) => {
    if (e.target.id !== "drop-files" && e.target.id !== "drop-folder") return;
    add([...e.target.files].map((file) => ({ file, name: file.webkitRelativePath || file.name })));
    e.target.value = "";
  });
  document.addEventListener("click", (e) => {
    if (e.target.closest("#arriving-cancel")) cancelAll();
    if (e.target.closest("#arriving-close")) {
      el("arriving").hidden = true;
      batch = null;
      waiting.clear();
    }
    const cancel = e.target.closest("[data-cancel]");
    if (cancel) jobs.get(cancel.closest("li"))?.cancel();
    const leave = e.target.closest("[data-leave]");
    if (leave) leaveOut(leave);
  });
  document.addEventListener("change", (e) => {
    const choice = e.target.closest?.(".arrivals select[data-again]");
    if (choice) again(choice);
  });
  if (el("drop")) { // not on every screen of documents, and not for readers
    asksBeforeLeaving();
    comeBack();
  }
  // What was selected before this script was there.
  const early = el("drop-files");
  if (early?.files.length) {
    setTimeout(() => {
      add([...early.files].map((file) => ({ file, name: file.name })));
      early.value = "";
    });
  }
}

const underWay = () => Boolean(batch && !batch.ended);

// asksBeforeLeaving keeps files on the way from being lost by opening something else: it can be opened in a window of its own, and they go on here.
function asksBeforeLeaving() {
  let to = "";
  const dialog = el("leaving");
  document.addEventListener("click", (e) => {
    const a = e.target.closest?.("a[href]");
    if (!underWay() || !leads(e, a)) return;
    e.preventDefault();
    e.stopImmediatePropagation();
    to = a.href;
    const b = batch;
    const left = b.files - b.done - b.wrong - b.locked - b.cancelled;
    el("leaving-says").textContent = `${count(left, "file")} ${left === 1 ? "is" : "are"} not added yet. If you leave this screen, ${left === 1 ? "it" : "they"} won’t be.`;
    dialog.showModal();
  }, true);
  dialog.addEventListener("close", () => {
    if (dialog.returnValue === "beside") window.open(to, "_blank");
    if (dialog.returnValue === "leave") {
      cancelAll();
      batch = null;
      location.href = to;
    }
    dialog.returnValue = "";
  });
  window.addEventListener("beforeunload", (e) => {
    if (underWay()) e.preventDefault();
  });
}

// comeBack lists again what was refused, or waits for a password, before the screen was loaded.
async function comeBack() {
  const list = waiting.rows();
  if (!list.length) return;
  newBatch();
  batch.ended = true;
  for (const row of list) {
    const li = document.createElement("li");
    const word = cell("arrival-word", row.sentence);
    li.append(cell("arrival-name", row.name), word);
    el("drop-wrong").append(li);
    batch.files++;
    batch[row.locked ? "locked" : "wrong"]++;
    if (!row.locked) {
      li.classList.add("refused");
      continue;
    }
    const file = await waiting.file(row.id);
    const j = { li, word, name: row.name, file, ended: true, x: null, request: row.id, cancel() {} };
    j.send = (password) => send(j, null, password);
    if (file) askPassword(j);
    else word.textContent = `${row.sentence}. Add the file again, and then its password.`;
  }
  el("arriving").hidden = false;
  say();
}

const maxFiles = 5000; // of a folder that is dropped

// walk lists the files in folders that were dropped, with their paths.
async function walk(entries) {
  const out = [];
  const read = async (entry, path) => {
    if (out.length >= maxFiles) return;
    if (entry.isFile) {
      if (entry.name.startsWith(".") || entry.name.startsWith("~$")) return;
      const file = await new Promise((ok, no) => entry.file(ok, no)).catch(() => null);
      if (file) out.push({ file, name: path + entry.name });
      return;
    }
    const reader = entry.createReader();
    for (;;) {
      const part = await new Promise((ok, no) => reader.readEntries(ok, no)).catch(() => []);
      if (!part.length) return;
      for (const x of part) await read(x, `${path}${entry.name}/`);
    }
  };
  for (const x of entries) await read(x, "");
  return out;
}

const jobs = new Map(); // what is on the way, by its row

function add(files) {
  if (!files.length || !el("drop")) return;
  if (!batch || batch.ended) newBatch();
  el("arriving").hidden = false;
  el("arriving-close").hidden = true;
  el("arriving-cancel").hidden = false;
  batch.files += files.length;
  for (const f of files) {
    batch.bytes += f.file.size;
    batch.queue.push(job(f));
  }
  say();
  while (batch.running < atOnce && batch.queue.length) run(batch);
}

// newBatch begins a list. What was refused before, or waits for a password, stays on top of it.
function newBatch() {
  const was = batch;
  batch = { files: 0, done: 0, wrong: 0, locked: 0, cancelled: 0, documents: 0, bytes: 0, sent: new Map(), queue: [], running: 0, ended: false };
  for (const id of ["drop-going", "drop-list"]) el(id).replaceChildren();
  if (was) {
    batch.files = was.wrong + was.locked;
    Object.assign(batch, { wrong: was.wrong, locked: was.locked });
  }
  el("drop-done").open = false;
}

async function run(b) {
  b.running++;
  for (let next = b.queue.shift(); next; next = b.queue.shift()) {
    if (!next.ended) await next.send();
    say();
  }
  if (--b.running === 0 && !b.queue.length) {
    b.ended = true;
    say();
    await refresh();
  }
}

// say tells how far all is, each thing once.
function say() {
  const b = batch;
  if (!b) return;
  const parts = [`${b.done} of ${b.files} added`];
  if (b.documents > b.done) parts.push(count(b.documents, "document"));
  if (b.locked) parts.push(`${b.locked} ${b.locked === 1 ? "needs its" : "need their"} password`);
  if (b.wrong) parts.push(`${b.wrong} could not be added`);
  if (b.cancelled) parts.push(`${b.cancelled} cancelled`);
  el("drop-said").textContent = parts.join(", ") + (b.ended ? "." : " …");
  const over = b.done + b.wrong + b.locked + b.cancelled;
  const sent = [...b.sent.values()].reduce((n, v) => n + v, 0);
  el("arriving-bar").value = b.ended ? 100 : Math.min(99, 50 * (sent / Math.max(1, b.bytes)) + 50 * (over / b.files));
  el("arriving-cancel").hidden = b.ended;
  el("arriving-close").hidden = !b.ended;
  const list = el("drop-list");
  el("drop-done").hidden = !list.children.length;
  el("drop-done").querySelector("summary").textContent = `${count(list.children.length, "file")} arrived`;
}

function cancelAll() {
  for (const j of [...jobs.values()]) j.cancel();
}

function cell(className, text = "") {
  return Object.assign(document.createElement("span"), { className, textContent: text });
}

// job is one file on the way: its row, and how it is sent.
function job({ file, name }) {
  const li = document.createElement("li");
  const bar = Object.assign(document.createElement("progress"), { max: 100, value: 0 });
  bar.setAttribute("aria-label", `Adding ${name}`);
  const word = cell("arrival-word", "waiting");
  const go = Object.assign(document.createElement("button"), { type: "button", className: "icon-button", textContent: "×", title: "Cancel" });
  go.dataset.cancel = "";
  go.setAttribute("aria-label", `Cancel ${name}`);
  li.append(cell("arrival-name", name), bar, word, go);
  el("drop-going").append(li);
  const j = {
    li, word, name, file, ended: false, x: null, request: crypto.randomUUID?.() ?? `${Date.now()}-${Math.random()}`,
    cancel() {
      if (j.ended) return;
      finish(j, "cancelled");
      j.x?.abort();
      word.textContent = "cancelled";
      say();
    },
    send: (password) => send(j, bar, password),
  };
  jobs.set(li, j);
  return j;
}

// finish moves a row to where it belongs.
function finish(j, how) {
  j.ended = true;
  jobs.delete(j.li);
  j.li.querySelector("progress")?.remove();
  j.li.querySelector("[data-cancel]")?.remove();
  batch[how]++;
  if (how === "cancelled") j.li.remove();
}

// An upload tells how far it is, which fetch can't; the answer comes line by line, one for each document that came of the file.
function send(j, bar, password = "", left = tries) {
  const { word, name, file } = j;
  return new Promise((resolve) => {
    const x = new XMLHttpRequest();
    j.x = x;
    const folder = el("drop")?.dataset.folder;
    x.open("POST", "/documents/add?name=" + encodeURIComponent(name) + (folder ? "&folder=" + folder : ""));
    x.setRequestHeader("Request-Id", j.request);
    x.setRequestHeader("Accept", "application/x-ndjson");
    if (password) x.setRequestHeader("File-Password", encodeURIComponent(password));
    word.textContent = "";
    let read = 0;
    let came = 0;
    const take = () => {
      const text = x.responseText;
      for (let end = text.indexOf("\n", read); end >= 0; end = text.indexOf("\n", read)) {
        const line = text.slice(read, end);
        read = end + 1;
        if (line.trim()) show(j, JSON.parse(line), came++);
      }
      if (came > 1) word.textContent = `${count(came, "document")} so far`;
    };
    x.upload.onprogress = (e) => {
      if (!e.lengthComputable) return;
      bar.value = (100 * e.loaded) / e.total;
      batch.sent.set(j, e.loaded);
      if (e.loaded === e.total) word.textContent = "reading …";
      say();
    };
    x.onprogress = () => x.status === 200 && !j.ended && take();
    x.onload = () => {
      if (j.ended) return resolve();
      if (x.status === 200) {
        take();
        if (!j.ended) finish(j, "done");
        if (came > 1) j.li.remove();
      } else {
        show(j, { name, refused: true, sentence: x.responseText.replace(/<[^>]*>/g, " ").trim() }, 0);
      }
      resolve();
    };
    x.onabort = () => resolve();
    x.onerror = () => {
      if (j.ended) return resolve();
      if (left > 1) {
        setTimeout(() => send(j, bar, password, left - 1).then(resolve), 600);
        return;
      }
      show(j, { name, refused: true, sentence: "The connection was lost; nothing was changed." }, 0);
      resolve();
    };
    x.send(file);
  });
}

// show writes what came of a file, or of one that was in it, into a row.
function show(j, told, no) {
  const inside = no > 0 || told.name !== j.name;
  const li = inside ? document.createElement("li") : j.li;
  const word = inside ? cell("arrival-word") : j.word;
  if (inside) li.append(cell("arrival-name", told.name), word);
  const id = inside ? `${j.request}/${no}` : j.request; // of the row, where it stays listed
  if (told.locked) {
    if (!inside) finish(j, "locked");
    word.textContent = told.sentence;
    el("drop-wrong").append(li);
    waiting.add({ id, name: told.name, sentence: told.sentence, locked: !inside }, inside ? null : j.file);
    if (!inside) askPassword(j);
  } else if (told.refused) {
    if (!inside) finish(j, "wrong");
    else batch.wrong++;
    li.classList.add("refused");
    word.textContent = told.sentence;
    el("drop-wrong").append(li);
    waiting.add({ id, name: told.name, sentence: told.sentence });
  } else {
    if (!inside) {
      finish(j, "done");
      waiting.drop(j.request);
    }
    batch.documents++;
    li.dataset.id = told.id;
    fill(li, word, told);
    el("drop-list").append(li);
    if (told.same) {
      el("drop-done").open = true;
    }
  }
  say();
}

// fill says what arrived: figures, what one would act on, what was left out, the same file that is there, and how its text was read.
function fill(li, word, told) {
  word.replaceChildren(told.sentence);
  const more = cell("arrival-more");
  if (told.same) {
    const b = Object.assign(document.createElement("button"), { type: "button", className: "btn btn-link btn-sm", textContent: "Skip this file" });
    b.dataset.leave = told.id;
    more.append(cell("edge loose", `the same file as “${told.same}”`), " ", b, " ");
  }
  if (told.look) more.append(cell("edge loose", told.look), " ");
  for (const t of told.told ?? []) more.append(cell("quiet", t), " ");
  if (told.encoding) {
    const s = document.createElement("select");
    s.className = "in-line";
    s.dataset.again = told.id;
    s.setAttribute("aria-label", `Encoding of ${told.name}`);
    for (const [value, text] of encodings) s.append(new Option(text, value, value === told.encoding, value === told.encoding));
    more.append(" read as ", s);
  }
  li.querySelector(".arrival-more")?.remove();
  if (more.childNodes.length) li.append(more);
}

// again has a text read in another encoding.
async function again(choice) {
  const li = choice.closest("li");
  choice.disabled = true;
  const got = await fetch("/documents/again", { method: "POST", body: new URLSearchParams({ id: choice.dataset.again, encoding: choice.value }) }).catch(() => null);
  if (got?.ok) {
    const told = await got.json();
    li.dataset.id = told.id;
    fill(li, li.querySelector(".arrival-word"), told);
    await refresh();
  } else {
    choice.disabled = false;
    li.querySelector(".arrival-word").textContent = got ? (await got.text()).replace(/<[^>]*>/g, " ").trim() : "The connection was lost.";
  }
}

// leaveOut deletes a document that came a second time, to the Bin.
async function leaveOut(b) {
  const li = b.closest("li");
  const got = await fetch("/documents/bin", { method: "POST", body: new URLSearchParams({ id: b.dataset.leave }), headers: { "HX-Request": "true" } }).catch(() => null);
  if (!got?.ok) return;
  li.querySelector(".arrival-more")?.remove();
  li.querySelector(".arrival-word").textContent = "skipped: it is in the Bin";
  await refresh();
}

// A locked file asks for its password in its row; the others go on meanwhile.
function askPassword(j) {
  const form = document.createElement("form");
  form.className = "unlock";
  const field = Object.assign(document.createElement("input"), { type: "password", autocomplete: "off", className: "form-control form-control-sm" });
  field.setAttribute("aria-label", `Password of ${j.name}`);
  const go = Object.assign(document.createElement("button"), { className: "btn btn-primary btn-sm", textContent: "Unlock" });
  form.append(field, go);
  j.li.append(form);
  form.addEventListener("submit", async (e) => {
    e.preventDefault();
    form.remove();
    batch.locked--;
    j.ended = false;
    const bar = Object.assign(document.createElement("progress"), { max: 100, value: 0 });
    j.word.before(bar);
    jobs.set(j.li, j);
    const b = batch;
    b.ended = false; // leaving asks, as long as it is on the way
    b.running++;
    await send(j, bar, field.value);
    if (--b.running === 0 && !b.queue.length) b.ended = true;
    say();
    await refresh();
  });
}

// refresh shows the documents as they are now; the list of arrivals stays.
async function refresh() {
  const got = await answer(location.pathname + location.search, { headers: { "HX-Request": "true" } });
  if (!got.ok) return;
  const fresh = new DOMParser().parseFromString(got.text(), "text/html");
  const now = el("document-table");
  const then = fresh.getElementById("document-table");
  if (then) {
    (now ?? document.querySelector("main > .nothing"))?.replaceWith(then);
    window.htmx.process(then);
  }
  for (const part of [".shelves", "#narrow"]) {
    const old = document.querySelector(part);
    const new_ = fresh.querySelector(part);
    if (old && new_ && !old.contains(document.activeElement)) old.replaceWith(new_);
  }
  document.dispatchEvent(new CustomEvent("rows"));
}
