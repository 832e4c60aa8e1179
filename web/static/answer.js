// answer asks the server and reads all it says. Where no answer comes, since the page is left or the connection is lost, it says so
// like an answer that is no good.
export async function answer(url, options) {
  try {
    const got = await fetch(url, options);
    const body = await got.text();
    return { ok: got.ok, text: () => body, json: () => JSON.parse(body) };
  } catch {
    return { ok: false, text: () => "The connection was lost." };
  }
}
