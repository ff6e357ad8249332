// Edge stretch: sides pulled outwards, in pairs if wanted.
import { component } from "../../lib/component.js";

/** @type {Record<string, [string, "across" | "down"]>} the side across, and what pairs them */
const TWINS = {
  "frame.pull_left": ["frame.pull_right", "across"],
  "frame.pull_right": ["frame.pull_left", "across"],
  "frame.pull_top": ["frame.pull_bottom", "down"],
  "frame.pull_bottom": ["frame.pull_top", "down"],
};

component("edgeStretch", () => ({
  across: true, // whether left and right go together
  down: true,

  get words() {
    const { clip } = this.$store;
    return Object.keys(TWINS)
      .map((name) => {
        const side = name.slice("frame.pull_".length);
        if (clip.isKeyed(name)) return `${side} changes`;
        return clip.value(name) ? `${side} ${clip.value(name)} %` : "";
      })
      .filter(Boolean)
      .join(", ");
  },

  get stretched() {
    return this.$store.clip.answer?.stations.frame.details.stretched ?? "";
  },

  /**
   * The side across follows: heard before the field changes its own.
   * @param {{ name: string, value: number }} setting
   */
  follow({ name, value }) {
    const twin = TWINS[name];
    if (twin && this[twin[1]]) this.$store.clip.put(twin[0], value);
  },
}));
