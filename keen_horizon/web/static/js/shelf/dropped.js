// The files that somebody dropped or chose: those of folders, too.

// Of what lies in folders, beside footage: what is dropped by itself is sent whatever it is called.
const FOOTAGE = /\.(mp4|m4v|mov|3gp|mkv|webm|mts|m2ts|ts|avi|mxf)$/i;

/**
 * @typedef {object} Entry of a file system that the browser lets be read, as far as it is used
 * @property {boolean} isFile
 * @property {boolean} isDirectory
 * @property {string} name
 * @property {(then: (file: File) => void, wrong: (error: unknown) => void) => void} [file]
 * @property {() => { readEntries: (then: (found: Entry[]) => void, wrong: (error: unknown) => void) => void }} [createReader]
 */

/**
 * Everything in a folder; browsers hand it over in portions.
 * @param {Entry} folder
 * @returns {Promise<Entry[]>}
 */
async function inside(folder) {
  const reader = folder.createReader?.();
  /** @type {Entry[]} */
  const all = [];
  for (;;) {
    /** @type {Entry[]} */
    const some = await new Promise((then, wrong) => {
      if (reader) reader.readEntries(then, wrong);
      else then([]);
    });
    if (!some.length) return all.sort((one, other) => one.name.localeCompare(other.name));
    all.push(...some);
  }
}

/**
 * The footage of entries, that of folders however deep.
 * @param {Entry[]} entries
 * @param {boolean} [chosen] they were dropped by themselves
 * @returns {Promise<File[]>}
 */
export async function footageIn(entries, chosen = true) {
  const found = [];
  for (const entry of entries) {
    if (entry.isDirectory) found.push(...(await footageIn(await inside(entry), false)));
    else if (chosen || FOOTAGE.test(entry.name)) {
      found.push(await new Promise((then, wrong) => entry.file?.(then, wrong)));
    }
  }
  return found;
}

/**
 * @param {Event} event a drop, or a change of an entry for files, which is emptied
 * @returns {Promise<File[]>}
 */
export async function filesOf(event) {
  if (event instanceof DragEvent) {
    const items = Array.from(event.dataTransfer?.items ?? []);
    // All at once: the browser forgets them as soon as anything is waited for.
    const entries = items.map((item) => /** @type {Entry | null} */ (item.webkitGetAsEntry()));
    const known = entries.filter((entry) => entry !== null);
    return known.length ? footageIn(known) : Array.from(event.dataTransfer?.files ?? []);
  }
  const entry = /** @type {HTMLInputElement} */ (event.target);
  const files = Array.from(entry.files ?? []);
  entry.value = "";
  return files;
}
