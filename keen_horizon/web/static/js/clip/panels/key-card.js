// The keyframes at the frame on show: copied, moved, deleted, smooth or straight.
import { component } from "../../lib/component.js";
import { settings } from "../settings.js";
import { dropKey, keysOf, moveKeys, putKey } from "../treatment.js";

/** @typedef {Key & { name: string }} NamedKey */

component("keyCard", () => ({
  /** @type {NamedKey[]} */
  copied: [],

  /** @returns {NamedKey[]} */
  get here() {
    const { clip } = this.$store;
    const { treatment, frame } = clip;
    if (!treatment) return [];
    return clip.keyedHere.flatMap((name) => {
      const key = keysOf(treatment, name).find((one) => one.frame === frame);
      return key ? [{ name, ...key }] : [];
    });
  },

  get words() {
    return this.here
      .map(({ name, value }) => `${settings[name].label} ${Math.round(value * 100) / 100}`)
      .join(", ");
  },

  get isSmooth() {
    return this.here.every((key) => key.smooth);
  },

  get shown() {
    return this.here.length > 0 || this.copied.length > 0;
  },

  remove() {
    const { clip } = this.$store;
    const names = clip.keyedHere;
    clip.edit((treatment) => {
      for (const name of names) dropKey(treatment, name, clip.frame);
    });
  },

  copy() {
    this.copied = this.here;
  },

  paste() {
    const { clip } = this.$store;
    clip.edit((treatment) => {
      for (const { name, value, smooth } of this.copied) {
        putKey(treatment, name, clip.frame, value, smooth);
      }
    });
  },

  turn() {
    const { clip } = this.$store;
    const smooth = !this.isSmooth;
    const here = this.here;
    clip.edit((treatment) => {
      for (const { name, value } of here) putKey(treatment, name, clip.frame, value, smooth);
    });
  },

  /**
   * Move them by frames: what dragging them on the strip does.
   * @param {number} by
   */
  move(by) {
    const { clip } = this.$store;
    const from = clip.frame;
    const to = Math.max(clip.first, Math.min(clip.last, from + by));
    if (to === from) return;
    clip.edit((treatment) => moveKeys(treatment, from, to));
    clip.go(to);
  },
}));
