// Scanning: what lies on the glass is looked at before it is scanned.
let started = false;

export function start() {
  if (started) return;
  started = true;
  const both = () => [document.getElementById("scan-with"), document.getElementById("swap")];
  let shown = both();
  document.addEventListener("htmx:after:swap", () => {
    const now = both();
    if (now[0] && shown[0] && now[0] !== shown[0] && now[1] === shown[1]) document.getElementById("message")?.replaceChildren(); // what was wrong with an address is wrong no more
    shown = now;
  });
  document.addEventListener("click", async (e) => {
    const b = e.target.closest("[data-look]");
    if (!b) return;
    const box = document.getElementById("scan-look");
    const img = box.querySelector("img");
    b.disabled = true;
    box.hidden = false;
    box.dataset.said = "Scanning a preview …";
    img.hidden = true;
    try {
      const got = await fetch(b.dataset.look);
      if (got.ok) {
        if (img.src) URL.revokeObjectURL(img.src);
        img.src = URL.createObjectURL(await got.blob());
        img.hidden = false;
        box.dataset.said = "";
      } else {
        const said = document.createElement("div");
        said.innerHTML = await got.text();
        box.dataset.said = said.textContent.trim() || "The scanner couldn’t scan a preview.";
      }
    } catch {
      box.dataset.said = "The connection was lost.";
    }
    b.disabled = false;
  });
}

export const mount = () => start();
