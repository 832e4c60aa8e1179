// Small things that many scripts need.
export const el = (id) => document.getElementById(id);

// hidden is text for people who listen.
export function hidden(text) {
  const span = document.createElement("span");
  span.className = "visually-hidden";
  span.textContent = text;
  return span;
}

// count writes a number with its noun: "1 page", "2,415 pages", "3 matches".
export const count = (n, noun, plural = `${noun}s`) => `${n.toLocaleString("en")} ${n === 1 ? noun : plural}`;

// plain is the words of what the server said in HTML.
export const plain = (html) => new DOMParser().parseFromString(html, "text/html").body.textContent.trim();

// typing tells whether keys go into a field.
export function typing(target) {
  return target instanceof HTMLElement && (target.isContentEditable || (/^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName) && !/^(checkbox|radio|button|submit|color)$/.test(target.type)));
}

// answer asks the server and reads all it says. Where no answer comes, since the page is left or the connection is lost, it says so
// like an answer that is no good.
export async function answer(url, options) {
  try {
    const got = await fetch(url, options);
    const body = await got.text();
    return { ok: got.ok, status: got.status, text: () => body, json: () => JSON.parse(body) };
  } catch {
    return { ok: false, status: 0, text: () => "The connection was lost." };
  }
}

// script brings the script of a screen or a slip; null where it does not come. That is said, unless the page is being left.
export async function script(address) {
  try {
    return await import(address);
  } catch {
    setTimeout(() => {
      const said = document.createElement("div");
      said.className = "said problem";
      said.append(Object.assign(document.createElement("p"), { textContent: "Part of this screen didn’t load. Reload the page." }));
      el("message")?.replaceChildren(said);
    }, 500);
    return null;
  }
}
