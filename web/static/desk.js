// The desk: what it shows stands in the page that the server sent; here is only where
// one looks and what is chosen. After each step the server sends the desk anew.
import { typing } from "./keys.js";
import { Ribbon } from "./ribbon.js";
import { Board } from "./board.js";
import { Paper } from "./paper.js";
import { Slip } from "./slip.js";
import { Reader } from "./reader.js";
import { Find } from "./find.js";
import { Take } from "./take.js";

// box gives the size of the picture for a page whose longest side takes so many pixels
// of the window: the server draws in steps of 4.
export function box(pixels) {
  const need = pixels * Math.min(window.devicePixelRatio || 1, 3);
  return Math.max(40, Math.min(4400, Math.ceil(need / 4 - 0.01) * 4));
}

export const desk = {
  doc: "", seen: "", station: "", name: "",
  pages: [], // {key, version, w, h}, in order
  at: "", // key of the page that is looked at
  chosen: new Set(), // keys
  picture(page, size) {
    return `/desk/${this.doc}/picture/${page.key}/${page.version}/${size}`;
  },
  index(key) {
    return this.pages.findIndex((p) => p.key === key);
  },
  page(key) {
    return this.pages[this.index(key)];
  },
};

let ribbon, board, paper, slip, reader, take;
export let find;

export function startDesk() {
  reader = new Reader();
  load();
  const sent = desk.pages.find((p) => p.key === document.getElementById("swap").dataset.show);
  const asked = new URL(location.href).searchParams.get("page");
  go((sent ?? desk.page(asked) ?? desk.pages[0]).key);
  let focused = "";
  document.addEventListener("htmx:before:swap", () => {
    focused = document.activeElement?.id || document.activeElement?.closest("[id]")?.id || "";
  });
  document.addEventListener("htmx:after:swap", () => {
    swatches();
    const swap = document.getElementById("swap");
    if (swap && swap.dataset.seen !== undefined && !swap.dataset.loaded) {
      const was = desk.index(desk.at);
      load();
      const show = swap.dataset.show;
      const next = desk.page(show) ?? desk.page(desk.at) ?? desk.pages[Math.min(Math.max(was, 0), desk.pages.length - 1)];
      go(next.key);
      board?.reveal(next.key);
      (document.getElementById(focused) ?? document.getElementById(board ? "board" : "view"))?.focus({ preventScroll: true });
    }
  });
  document.addEventListener("keydown", keys);
  document.addEventListener("click", (e) => {
    const b = e.target.closest("[data-go], [data-go-number]");
    if (b) {
      const page = b.dataset.go ? desk.page(b.dataset.go) : desk.pages[Number(b.dataset.goNumber) - 1];
      if (page) {
        go(page.key);
        board?.reveal(page.key);
      }
    }
    if (e.target.closest("#reader-open")) reader.open();
  });
  window.addEventListener("resize", () => {
    ribbon?.layout();
    board?.layout();
    paper?.show();
    document.dispatchEvent(new Event("desk:resized"));
  });
  document.addEventListener("desk:resized", () => {
    find?.looked(false);
    take?.looked();
  });
}

// swatches shows the colours of marks, which come with the list of these.
function swatches() {
  for (const s of document.querySelectorAll(".swatch")) s.style.background = s.dataset.colour;
}

// load reads the desk that the server sent.
function load() {
  const swap = document.getElementById("swap");
  swap.dataset.loaded = "yes";
  const d = swap.dataset;
  Object.assign(desk, { doc: d.doc, seen: d.seen, station: d.station, name: d.name });
  desk.pages = JSON.parse(document.getElementById("pages").textContent).map(([key, version, w, h]) => ({ key, version, w, h }));
  const there = new Set(desk.pages.map((p) => p.key));
  desk.chosen = new Set([...desk.chosen].filter((k) => there.has(k)));
  board = document.getElementById("board") ? new Board(document.getElementById("board"), go) : null;
  ribbon = document.getElementById("ribbon") ? new Ribbon(document.getElementById("ribbon"), go) : null;
  paper = document.getElementById("view") ? new Paper() : null;
  slip = new Slip({ go, paper, ribbon, board });
  take = document.getElementById("grain") ? new Take(paper) : null;
  find = new Find({ go, paper, ribbon });
  swatches();
}

// go looks at a page.
function go(key) {
  if (!desk.page(key)) return;
  desk.at = key;
  ribbon?.show(key);
  board?.setCursor(key);
  paper?.show();
  slip?.looked();
  find?.looked();
  take?.looked();
  const url = new URL(location.href);
  url.searchParams.set("page", key);
  history.replaceState(null, "", url);
  for (const a of document.querySelectorAll(".way a")) a.href = a.href.split("?")[0] + "?page=" + key;
}

function by(n) {
  const i = Math.max(0, Math.min(desk.pages.length - 1, desk.index(desk.at) + n));
  go(desk.pages[i].key);
  board?.reveal(desk.at);
}

function keys(e) {
  if (e.ctrlKey && !e.altKey && e.key.toLowerCase() === "z" && !typing(e.target)) {
    press(e.shiftKey ? "go-forward" : "go-back", e);
    return;
  }
  if (e.ctrlKey || e.metaKey || e.altKey || typing(e.target) || document.querySelector("dialog[open]")) return;
  if (reader.isOpen) return reader.key(e);
  if (board?.key(e)) return;
  if (take?.key(e)) return;
  const k = e.key;
  if (k === "u") press("go-back", e);
  else if (k === "U") press("go-forward", e);
  else if (k.toLowerCase() === "e") reader.open();
  else if (k === "n" && find?.active) find.step(1);
  else if (k === "N" && find?.active) find.step(-1);
  else if (k === "Escape" && find?.active) find.end();
  else if (k === "PageDown") by(1);
  else if (k === "PageUp") by(-1);
  else if (k === "Home" && !board) go(desk.pages[0].key);
  else if (k === "End" && !board) go(desk.pages.at(-1).key);
  else if (k >= "1" && k <= "9" && document.querySelectorAll(".way a")[Number(k) - 1]) document.querySelectorAll(".way a")[Number(k) - 1].click();
  else if (k === "+" || k === "=") paper?.zoom(1);
  else if (k === "-") paper?.zoom(-1);
  else if (k === "0") paper?.fit();
  else return;
  e.preventDefault();
}

function press(id, e) {
  e.preventDefault();
  document.getElementById(id)?.click();
}
