// Documents: bringing files in, choosing, and the order of what is put together.
export function startDocuments() {
  let order = []; // ids, in the order they were chosen or put

  const $ = (id) => document.getElementById(id);
  const row = (id) => document.querySelector(`#document-table tr[data-id="${id}"]`);

  // Choosing
  document.addEventListener("change", (e) => {
    const box = e.target.closest?.("#document-table input[type=checkbox]");
    if (box) {
      if (box.checked) order.push(box.value);
      else order = order.filter((id) => id !== box.value);
      showTray();
    }
    if (e.target.id === "drop-files") {
      bring([...e.target.files]);
      e.target.value = "";
    }
  });
  document.addEventListener("click", (e) => {
    if (e.target.closest("#tray-none")) {
      order = [];
      showTray();
      return;
    }
    const move = e.target.closest("#tray-order [data-by]");
    if (move) {
      shift(move.closest("li").dataset.id, Number(move.dataset.by));
      return;
    }
    // A click beside the name chooses too: the whole row is the target.
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
  document.addEventListener("htmx:after:swap", () => {
    order = order.filter((id) => row(id));
    showTray();
  });

  // What was ticked before this script ran, or by the browser on the way back, counts too.
  order = [...document.querySelectorAll("#document-table input[type=checkbox]:checked")].map((b) => b.value);
  if (order.length) showTray();

  function shift(id, by) {
    const i = order.indexOf(id);
    const to = Math.max(0, Math.min(order.length - 1, i + by));
    order.splice(to, 0, order.splice(i, 1)[0]);
    showTray();
    $("tray-order").querySelector(`li[data-id="${id}"] [data-by="${by}"]`)?.focus();
  }

  function showTray() {
    const tray = $("tray");
    if (!tray) return;
    tray.hidden = order.length === 0;
    for (const tr of document.querySelectorAll("#document-table tbody tr")) {
      const chosen = order.includes(tr.dataset.id);
      tr.classList.toggle("chosen", chosen);
      const box = tr.querySelector("input[type=checkbox]");
      if (box) box.checked = chosen;
    }
    const pages = order.reduce((n, id) => n + Number(row(id)?.dataset.pages ?? 0), 0);
    $("tray-count").textContent = `${order.length} chosen, ${pages.toLocaleString("en")} ${pages === 1 ? "page" : "pages"}`;
    $("tray-order").replaceChildren(...order.map((id) => {
      const li = document.createElement("li");
      li.dataset.id = id;
      const name = row(id)?.dataset.name ?? "";
      const hidden = Object.assign(document.createElement("input"), { type: "hidden", name: "id", value: id });
      li.append(name, hidden, mover(name, -1, "‹", "earlier"), mover(name, 1, "›", "later"));
      return li;
    }));
    const together = $("tray-together");
    together.disabled = order.length < 2;
    together.textContent = order.length < 2 ? "Put together" : `Put ${order.length} together`;
    const first = row(order[0])?.dataset.name;
    $("tray-name").placeholder = first ? `${first} and others` : "";
  }

  function mover(name, by, sign, word) {
    const b = document.createElement("button");
    b.type = "button";
    b.dataset.by = by;
    b.textContent = sign;
    b.setAttribute("aria-label", `Put ${name} ${word}`);
    return b;
  }

  // Dragging within the order
  let drag = null;
  document.addEventListener("pointerdown", (e) => {
    const li = e.target.closest?.("#tray-order li");
    if (li && !e.target.closest("button")) drag = li.dataset.id;
  });
  document.addEventListener("pointermove", (e) => {
    if (!drag) return;
    $("tray-order").querySelector(`li[data-id="${drag}"]`)?.classList.add("moving");
    const over = document.elementFromPoint(e.clientX, e.clientY)?.closest("#tray-order li");
    if (!over || over.dataset.id === drag) return;
    const box = over.getBoundingClientRect();
    const after = e.clientX > box.left + box.width / 2;
    const rest = order.filter((id) => id !== drag);
    rest.splice(rest.indexOf(over.dataset.id) + (after ? 1 : 0), 0, drag);
    if (rest.join() !== order.join()) {
      order = rest;
      showTray();
      $("tray-order").querySelector(`li[data-id="${drag}"]`)?.classList.add("moving");
    }
  });
  document.addEventListener("pointerup", () => {
    if (!drag) return;
    drag = null;
    showTray();
  });

  // Bringing files in
  for (const type of ["dragover", "dragenter"]) {
    document.addEventListener(type, (e) => {
      if (![...(e.dataTransfer?.types ?? [])].includes("Files")) return;
      e.preventDefault();
      $("drop")?.classList.add("over");
    });
  }
  document.addEventListener("dragleave", (e) => {
    if (!e.relatedTarget) $("drop")?.classList.remove("over");
  });
  document.addEventListener("drop", (e) => {
    if (!e.dataTransfer?.files.length) return;
    e.preventDefault();
    $("drop")?.classList.remove("over");
    bring([...e.dataTransfer.files]);
  });

  const atOnce = 2; // uploads that run beside one another

  // What was chosen before this script was there.
  const early = $("drop-files");
  if (early?.files.length) {
    setTimeout(() => {
      bring([...early.files]);
      early.value = "";
    });
  }

  async function bring(files) {
    if (!files.length) return;
    const said = $("drop-said");
    said.textContent = `0 of ${files.length} brought in …`;
    $("drop-list").replaceChildren();
    const queue = files.map((f) => ({ file: f, line: line(f) }));
    let done = 0;
    const refused = [];
    const worker = async () => {
      for (let next = queue.shift(); next; next = queue.shift()) {
        const r = await send(next.file, next.line);
        if (r.ok) done++;
        else refused.push(r.sentence);
        said.textContent = `${done} of ${files.length} brought in …`;
      }
    };
    await Promise.all(Array.from({ length: Math.min(atOnce, files.length) }, worker));
    said.textContent = `${done} of ${files.length} brought in. ${refused.join(" ")}`;
    await refresh();
  }

  // refresh shows the documents as they are now; the list of uploads stays.
  async function refresh() {
    const answer = await fetch("/documents", { headers: { "HX-Request": "true" } });
    if (!answer.ok) return;
    const fresh = new DOMParser().parseFromString(await answer.text(), "text/html");
    for (const id of ["document-table"]) {
      const now = $(id);
      const then = fresh.getElementById(id);
      if (now && then) now.replaceWith(then);
      else if (then) document.querySelector(".nothing")?.replaceWith(then);
      if (then) window.htmx.process(then);
    }
    document.querySelector(".shelves").replaceWith(fresh.querySelector(".shelves"));
    showTray();
  }

  function line(file) {
    const li = document.createElement("li");
    const name = document.createElement("span");
    name.textContent = file.name;
    const bar = document.createElement("progress");
    bar.max = 100;
    bar.value = 0;
    bar.setAttribute("aria-label", `Bringing in ${file.name}`);
    const word = document.createElement("span");
    li.append(name, bar, word);
    $("drop-list").append(li);
    return { li, bar, word };
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
      $("drop-said").textContent = `“${file.name}” brought in.`;
      await refresh();
    });
  }

  // An upload tells how far it is, which fetch can't.
  function send(file, { li, bar, word }, password = "") {
    return new Promise((resolve) => {
      const x = new XMLHttpRequest();
      x.open("POST", "/documents/bring?name=" + encodeURIComponent(file.name));
      if (password) x.setRequestHeader("File-Password", encodeURIComponent(password));
      x.upload.onprogress = (e) => e.lengthComputable && (bar.value = (100 * e.loaded) / e.total);
      x.onload = () => {
        bar.value = 100;
        const ok = x.status === 200;
        word.textContent = ok ? JSON.parse(x.responseText).sentence : x.responseText.trim();
        li.classList.toggle("refused", !ok);
        if (x.status === 423) askPassword(file, { li, bar, word });
        resolve({ ok, sentence: ok ? "" : x.responseText.trim() });
      };
      x.onerror = () => {
        word.textContent = "The connection was lost; nothing was changed.";
        li.classList.add("refused");
        resolve({ ok: false, sentence: `“${file.name}” did not arrive: the connection was lost.` });
      };
      x.send(file);
    });
  }
}
