// As much of a browser as the page's pure parts ask for when they are loaded.

/** @type {Map<string, string>} */
export const kept = new Map();
export const answers = /** @type {unknown[]} */ ([]);
export const asked = /** @type {string[]} */ ([]);

Object.assign(globalThis, {
  document: { addEventListener() {}, querySelector: () => ({ content: "token" }) },
  window: globalThis,
  localStorage: {
    getItem: (/** @type {string} */ name) => kept.get(name) ?? null,
    setItem: (/** @type {string} */ name, /** @type {string} */ value) => kept.set(name, value),
  },
  /** @param {string} address */
  async fetch(address) {
    asked.push(address);
    const answer = answers.shift();
    return { ok: true, status: 200, json: async () => answer, text: async () => "" };
  },
});

const scripts = "../../keen_horizon/web/static/js/";

/** @param {string} name of a script of the page */
export const script = (name) => import(scripts + name);
