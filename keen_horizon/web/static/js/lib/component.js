// Alpine components and stores, registered before the page is walked, with their types.

/**
 * @template T
 * @param {string} name
 * @param {(...args: any[]) => T & ThisType<T & AlpineMagics>} make
 */
export function component(name, make) {
  document.addEventListener("alpine:init", () => window.Alpine.data(name, make));
}

/**
 * A store that all components of a page share; they reach it as `$store`, which is watched.
 * @param {string} name
 * @param {object} store
 */
export function shared(name, store) {
  document.addEventListener("alpine:init", () => window.Alpine.store(name, store));
}
