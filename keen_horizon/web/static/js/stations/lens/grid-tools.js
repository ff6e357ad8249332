// The grid's own settings.
import { component } from "../../lib/component.js";
import { RULING } from "../../clip/stage/grid.js";

component("gridTools", () => ({
  get ruling() {
    return this.$store.view.ruling;
  },

  /** @param {string} at */
  is(at) {
    return this.ruling.at === at;
  },

  /** @param {string} at */
  tab(at) {
    return this.is(at) ? 0 : -1;
  },

  /**
   * @param {string} key
   * @param {Event} event
   */
  set(key, event) {
    const input = /** @type {HTMLInputElement} */ (event.target);
    /** @type {Record<string, unknown>} */
    const read = { checkbox: input.checked, color: input.value };
    this.put({ [key]: read[input.type] ?? Number(input.value) });
  },

  /** @param {string} at */
  lie(at) {
    this.put({ at });
  },

  reset() {
    this.put(RULING);
  },

  /** @param {Record<string, unknown>} changed */
  put(changed) {
    const { view } = this.$store;
    view.set("ruling", { ...this.ruling, ...changed });
    if (!view.grid) view.toggle("grid");
  },
}));
