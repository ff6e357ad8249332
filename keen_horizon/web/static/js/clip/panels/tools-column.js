// The column of tools: what went wrong, undo and redo, and how wide it is.
import { component } from "../../lib/component.js";
import { prefer, preference } from "../../lib/preferences.js";

const [NARROWEST, USUAL, WIDEST] = [240, 270, 520]; // px
const STEP = 16; // px that a key widens it

component("toolsColumn", () => ({
  width: preference("toolsWidth", USUAL),
  narrowest: NARROWEST,
  widest: WIDEST,

  init() {
    this.place(this.width);
  },

  /** @param {number} width */
  place(width) {
    this.width = Math.round(Math.max(NARROWEST, Math.min(WIDEST, width)));
    this.$root.style.setProperty("--tools-width", `${this.width}px`);
    prefer("toolsWidth", this.width);
  },

  /** @param {PointerEvent} event */
  hold(event) {
    /** @type {HTMLElement} */ (event.currentTarget).setPointerCapture(event.pointerId);
  },

  /** @param {PointerEvent} event */
  drag(event) {
    const edge = /** @type {HTMLElement} */ (event.currentTarget);
    if (!edge.hasPointerCapture(event.pointerId)) return;
    this.place(this.$root.getBoundingClientRect().right - event.clientX);
  },

  /** @param {KeyboardEvent} event */
  key(event) {
    const way = { ArrowLeft: 1, ArrowRight: -1 }[event.key];
    if (!way && event.key !== "Home") return;
    event.preventDefault();
    event.stopPropagation();
    this.place(way ? this.width + way * STEP : USUAL);
  },

  get mayUndo() {
    return this.$store.clip.answer?.steps.undo ?? false;
  },

  get mayRedo() {
    return this.$store.clip.answer?.steps.redo ?? false;
  },

  /**
   * Warnings of the station whose tools are open.
   * @param {string} name
   */
  warnings(name) {
    return this.$store.clip.answer?.stations[name].warnings ?? [];
  },
}));
