// What is left of files that were to be added: those that were refused, and those that wait for a password. They stay listed until the list is closed, also when the
// screen is loaded again; locked files themselves are kept by the browser meanwhile, as they are.
const key = "arrivals";
const mostRows = 500;
const mostBytes = 256 << 20; // of a file that is kept

const rows = () => {
  try {
    return JSON.parse(sessionStorage.getItem(key)) ?? [];
  } catch {
    return [];
  }
};

function write(list) {
  try {
    if (list.length) sessionStorage.setItem(key, JSON.stringify(list.slice(-mostRows)));
    else sessionStorage.removeItem(key);
  } catch {
    // it is full, or not allowed: the list is there as long as the screen
  }
}

// store gives the browser's store of files; null where there is none.
function store(mode, act) {
  return new Promise((done) => {
    const open = globalThis.indexedDB?.open("arrivals", 1);
    if (!open) return done(null);
    open.onupgradeneeded = () => open.result.createObjectStore("files");
    open.onerror = () => done(null);
    open.onsuccess = () => {
      const db = open.result;
      const t = db.transaction("files", mode);
      const r = act(t.objectStore("files"));
      t.oncomplete = () => (db.close(), done(r?.result ?? null));
      t.onabort = t.onerror = () => (db.close(), done(null));
    };
  });
}

export const waiting = {
  rows,
  // add keeps a row: {id, name, sentence, locked}, and the file of one that waits for its password.
  async add(row, file) {
    write([...rows().filter((r) => r.id !== row.id), row]);
    if (row.locked && file && file.size <= mostBytes) await store("readwrite", (s) => s.put(file, row.id));
  },
  async drop(id) {
    write(rows().filter((r) => r.id !== id));
    await store("readwrite", (s) => s.delete(id));
  },
  async clear() {
    write([]);
    await store("readwrite", (s) => s.clear());
  },
  file: (id) => store("readonly", (s) => s.get(id)),
};
