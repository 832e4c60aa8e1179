// Documents: adding files, selecting, and the order of what is combined.
import { el, count } from "../dom.js";
import { press } from "../gesture/press.js";

let order = []; // ids, in the order they were selected or put
const row = (id) => document.querySelector(`#document-table tr[data-id="${id}"]`);

export function start() {
  startSelecting();
  startAdding();
}

// --- Selecting, and the order

function startSelecting() {
  document.addEventListener("change", (e) => {
    const box = e.target.closest?.("#document-table input[type=checkbox]");
    if (!box) return;
    if (box.checked) order.push(box.value);
    else order = order.filter((id) => id !== box.value);
    showTray();
  });
  document.addEventListener("click", (e) => {
    if (e.target.closest("#tray-clear")) {
      order = [];
      showTray();
      return;
    }
    const move = e.target.closest("#tray-order [data-by]");
    if (move) {
      shift(move.closest("li").dataset.id, Number(move.dataset.by));
      return;
    }
    // A click beside the name selects too: the whole row is the target.
    const tr = e.target.closest("#document-table tbody tr");
    if (tr && !e.target.closest("a, button, input, form")) tr.querySelector("input[type=checkbox]")?.click();
  });
  document.addEventListener("keydown", (e) => {
    const li = e.target.closest?.("#tray-order li");
    if (li && e.shiftKey && (e.key === "ArrowLeft" || e.key === "ArrowRight")) {
      shift(li.dataset.id, e.key === "ArrowLeft" ? -1 : 1);
      e.preventDefault();
    }
  });
  document.addEventListener("pointerdown", (e) => {
    const li = e.target.closest?.("#tray-order li");
    if (li && !e.target.closest("button") && e.button === 0) drag(e, li.dataset.id);
  });
  document.addEventListener("htmx:after:swap", () => {
    order = order.filter((id) => row(id));
    showTray();
  });
  // What was ticked before this script ran, or by the browser on the way back, counts too.
  order = [...document.querySelectorAll("#document-table input[type=checkbox]:checked")].map((b) => b.value);
  if (order.length) showTray();
}

function shift(id, by) {
  const i = order.indexOf(id);
  const to = Math.max(0, Math.min(order.length - 1, i + by));
  order.splice(to, 0, order.splice(i, 1)[0]);
  showTray();
  el("tray-order").querySelector(`li[data-id="${id}"] [data-by="${by}"]`)?.focus();
}

// drag moves a document within the order while the pointer goes over the others.
function drag(e, id) {
  const before = [...order];
  const moving = () => el("tray-order").querySelector(`li[data-id="${id}"]`)?.classList.add("moving");
  press(e, {
    start: moving,
    move: (x, y) => {
      const over = document.elementFromPoint(x, y)?.closest("#tray-order li");
      if (!over || over.dataset.id === id) return;
      const box = over.getBoundingClientRect();
      const rest = order.filter((o) => o !== id);
      rest.splice(rest.indexOf(over.dataset.id) + (x > box.left + box.width / 2 ? 1 : 0), 0, id);
      if (rest.join() === order.join()) return;
      order = rest;
      showTray();
      moving();
    },
    end: showTray,
    cancel: () => {
      order = before;
      showTray();
    },
  });
}

function showTray() {
  const tray = el("tray");
  if (!tray) return;
  tray.hidden = order.length === 0;
  for (const tr of document.querySelectorAll("#document-table tbody tr[data-id]")) {
    const selected = order.includes(tr.dataset.id);
    tr.classList.toggle("selected", selected);
    const box = tr.querySelector("input[type=checkbox]");
    if (box) box.checked = selected;
  }
  const pages = order.reduce((n, id) => n + Number(row(id)?.dataset.pages ?? 0), 0);
  el("tray-count").textContent = `${order.length} selected, ${count(pages, "page")}`;
  el("tray-order").replaceChildren(...order.map((id) => {
    const li = document.createElement("li");
    li.dataset.id = id;
    const name = row(id)?.dataset.name ?? "";
    const hidden = Object.assign(document.createElement("input"), { type: "hidden", name: "id", value: id });
    li.append(name, hidden, mover(name, -1, "‹", "earlier"), mover(name, 1, "›", "later"));
    return li;
  }));
  const combine = el("tray-combine");
  combine.disabled = order.length < 2;
  combine.textContent = order.length < 2 ? "Combine" : `Combine ${order.length} documents`;
  const first = row(order[0])?.dataset.name;
  el("tray-name").placeholder = first ? `${first} and others` : "";
}

function mover(name, by, sign, word) {
  const b = document.createElement("button");
  b.type = "button";
  b.dataset.by = by;
  b.textContent = sign;
  b.setAttribute("aria-label", `Move ${name} ${word}`);
  return b;
}

// --- Adding files

const atOnce = 2; // uploads that run beside one another

function startAdding() {
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
  document.addEventListener("drop", (e) => {
    if (!e.dataTransfer?.files.length) return;
    e.preventDefault();
    el("drop")?.classList.remove("over");
    add([...e.dataTransfer.files]);
  });
  document.addEventListener("change", (e) => {
    if (e.target.id !== "drop-files") return;
    add([...e.target.files]);
    e.target.value = "";
  });
  // What was selected before this script was there.
  const early = el("drop-files");
  if (early?.files.length) {
    setTimeout(() => {
      add([...early.files]);
      early.value = "";
    });
  }
}

async function add(files) {
  if (!files.length) return;
  const said = el("drop-said");
  said.textContent = `0 of ${files.length} added …`;
  el("drop-list").replaceChildren();
  const queue = files.map((f) => ({ file: f, line: line(f) }));
  let done = 0;
  const refused = [];
  const worker = async () => {
    for (let next = queue.shift(); next; next = queue.shift()) {
      const r = await send(next.file, next.line);
      if (r.ok) done++;
      else refused.push(r.sentence);
      said.textContent = `${done} of ${files.length} added …`;
    }
  };
  await Promise.all(Array.from({ length: Math.min(atOnce, files.length) }, worker));
  said.textContent = `${done} of ${files.length} added. ${refused.join(" ")}`;
  await refresh();
}

// refresh shows the documents as they are now; the list of uploads stays.
async function refresh() {
  const got = await fetch("/documents", { headers: { "HX-Request": "true" } });
  if (!got.ok) return;
  const fresh = new DOMParser().parseFromString(await got.text(), "text/html");
  const now = el("document-table");
  const then = fresh.getElementById("document-table");
  if (then) {
    (now ?? document.querySelector(".nothing"))?.replaceWith(then);
    window.htmx.process(then);
  }
  document.querySelector(".shelves").replaceWith(fresh.querySelector(".shelves"));
  order = order.filter((id) => row(id));
  showTray();
}

function line(file) {
  const li = document.createElement("li");
  const name = document.createElement("span");
  name.textContent = file.name;
  const bar = document.createElement("progress");
  bar.max = 100;
  bar.value = 0;
  bar.setAttribute("aria-label", `Adding ${file.name}`);
  const word = document.createElement("span");
  li.append(name, bar, word);
  el("drop-list").append(li);
  return { li, bar, word, request: crypto.randomUUID?.() ?? `${Date.now()}-${Math.random()}` };
}

// A locked file asks for its password beside its name; the others go on meanwhile.
function askPassword(file, at) {
  const form = document.createElement("form");
  form.className = "unlock";
  const field = Object.assign(document.createElement("input"), { type: "password", autocomplete: "off", className: "form-control form-control-sm" });
  field.setAttribute("aria-label", `Password of ${file.name}`);
  const go = Object.assign(document.createElement("button"), { className: "btn btn-primary btn-sm", textContent: "Unlock" });
  form.append(field, go);
  at.word.append(form);
  field.focus();
  form.addEventListener("submit", async (e) => {
    e.preventDefault();
    const r = await send(file, at, field.value);
    if (!r.ok) return;
    el("drop-said").textContent = `“${file.name}” added.`;
    await refresh();
  });
}

const tries = 3; // for one file, where the connection is lost on the way: the same request adds it once

// An upload tells how far it is, which fetch can't.
function send(file, at, password = "", left = tries) {
  const { li, bar, word, request } = at;
  return new Promise((resolve) => {
    const x = new XMLHttpRequest();
    const folder = el("drop")?.dataset.folder;
    x.open("POST", "/documents/add?name=" + encodeURIComponent(file.name) + (folder ? "&folder=" + folder : ""));
    x.setRequestHeader("Request-Id", request);
    if (password) x.setRequestHeader("File-Password", encodeURIComponent(password));
    x.upload.onprogress = (e) => e.lengthComputable && (bar.value = (100 * e.loaded) / e.total);
    x.onload = () => {
      bar.value = 100;
      const ok = x.status === 200;
      word.textContent = ok ? JSON.parse(x.responseText).sentence : x.responseText.trim();
      li.classList.toggle("refused", !ok);
      if (x.status === 423) askPassword(file, at);
      resolve({ ok, sentence: ok ? "" : x.responseText.trim() });
    };
    x.onerror = () => {
      if (left > 1) {
        setTimeout(() => send(file, at, password, left - 1).then(resolve), 600);
        return;
      }
      word.textContent = "The connection was lost; nothing was changed.";
      li.classList.add("refused");
      resolve({ ok: false, sentence: `“${file.name}” did not arrive: the connection was lost.` });
    };
    x.send(file);
  });
}
