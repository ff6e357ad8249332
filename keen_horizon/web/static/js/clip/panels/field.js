// Settings on the page: an entry with a slider, a choice, a tick. What they are called and how far
// they go is declared with the setting.
import { component } from "../../lib/component.js";
import { settings } from "../settings.js";

/**
 * The number in an entry or a slider; null if there is none.
 * @param {Event} event
 */
const numberIn = (event) => {
  const { value } = /** @type {HTMLInputElement} */ (event.target);
  return value.trim() === "" || Number.isNaN(Number(value)) ? null : Number(value);
};

component("field", (/** @type {string} */ name) => ({
  get value() {
    return this.$store.clip.value(name);
  },

  get shown() {
    return this.$store.clip.isShown(name);
  },

  get isKeyed() {
    return this.$store.clip.isKeyed(name) ? "is-keyed" : "";
  },

  get here() {
    return this.$store.clip.hasKeyHere(name);
  },

  /** @param {Event} event */
  slide(event) {
    this.take(event, false);
  },

  /** @param {Event} event */
  settle(event) {
    this.take(event, true);
  },

  /**
   * @param {Event} event
   * @param {boolean} settled
   */
  take(event, settled) {
    const number = numberIn(event);
    if (number === null) this.restore(event);
    else this.put(number, settled);
  },

  /**
   * @param {any} value
   * @param {boolean} settled
   */
  put(value, settled) {
    this.$dispatch("setting", { name, value });
    this.$store.clip.change(name, value, settled);
  },

  /**
   * What is no number leaves things as they were.
   * @param {Event} event
   */
  restore(event) {
    /** @type {HTMLInputElement} */ (event.target).value = this.value ?? "";
  },

  /**
   * An entry that may be empty.
   * @param {Event} event
   */
  enter(event) {
    const text = /** @type {HTMLInputElement} */ (event.target).value.trim();
    if (settings[name].kind === "text") this.put(text || settings[name].default, true);
    else this.put(numberIn(event), true);
  },

  /** @param {Event} event */
  tick(event) {
    this.put(/** @type {HTMLInputElement} */ (event.target).checked, true);
  },

  reset() {
    this.put(settings[name].default, true);
  },

  toggleKey() {
    this.$store.clip.toggleKey(name);
  },
}));

component("choice", (/** @type {string} */ name) => ({
  get value() {
    return String(this.$store.clip.value(name));
  },

  get shown() {
    return this.$store.clip.isShown(name);
  },

  get hint() {
    return settings[name].choices[this.value]?.hint ?? "";
  },

  /** @param {string} value */
  is(value) {
    return this.value === value;
  },

  /**
   * The one that is chosen takes part in the order of Tab.
   * @param {string} value
   */
  tab(value) {
    return this.is(value) ? 0 : -1;
  },

  /** @param {string} value */
  take(value) {
    /** @type {Record<string, any>} */
    const switches = { true: true, false: false };
    const taken = value in switches ? switches[value] : value;
    this.$dispatch("setting", { name, value: taken });
    this.$store.clip.change(name, taken);
  },
}));
