// What a person has set for themselves, kept in this browser. A value that cannot be read counts as
// none: it must never keep a page from opening.

const PLACE = "keen-view";

/** @returns {Record<string, any>} */
function all() {
  try {
    const kept = JSON.parse(localStorage.getItem(PLACE) || "{}");
    return kept && typeof kept === "object" && !Array.isArray(kept) ? kept : {};
  } catch {
    return {};
  }
}

/**
 * @template V
 * @param {string} name
 * @param {V} otherwise what it is if nothing, or nothing of that kind, was kept
 * @returns {V}
 */
export function preference(name, otherwise) {
  const value = all()[name];
  return typeof value === typeof otherwise && value !== null ? value : otherwise;
}

/**
 * @param {string} name
 * @param {unknown} value
 */
export function prefer(name, value) {
  try {
    localStorage.setItem(PLACE, JSON.stringify({ ...all(), [name]: value }));
  } catch {
    // Storage is full or forbidden: it is only not remembered.
  }
}
