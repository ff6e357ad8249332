// Settings that hide every bare edge, or keep everything in view.
import { post } from "../../lib/api.js";
import { component } from "../../lib/component.js";

const KEYED = ["frame.extra_zoom", "frame.offset_x", "frame.offset_y"];

component("coverTools", (/** @type {number} */ smallest, /** @type {number} */ largest) => ({
  words: "",
  ceiling: largest, // px of the longer side

  cover() {
    this.words = "Looking for the least zoom …";
    return this.ask("cover", {});
  },

  keepAll() {
    this.words = "Looking how large everything is …";
    return this.ask("keep-view", { ceiling: this.ceiling });
  },

  /**
   * @param {"cover" | "keep-view"} what
   * @param {Record<string, unknown>} asked
   */
  async ask(what, asked) {
    const { clip } = this.$store;
    const { treatment } = clip;
    const found = await clip.guard(() =>
      post(`${clip.base}/${what}?near=${clip.at}`, { treatment, ...asked }),
    );
    this.words = found?.words ?? "";
    if (!found) return;
    clip.edit((changed) => {
      Object.assign(changed.frame, found.settings);
      for (const name of KEYED) delete changed.keys[name];
    });
  },

  /** @param {Event} event */
  size(event) {
    const input = /** @type {HTMLInputElement} */ (event.target);
    const wanted = Math.round(Number(input.value) || largest);
    this.ceiling = Math.max(smallest, Math.min(largest, wanted));
    input.value = String(this.ceiling);
  },
}));
