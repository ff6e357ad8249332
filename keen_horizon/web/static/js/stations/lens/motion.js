// A lens found by how the clip's own marks move.
import { post } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { adoptLens } from "./adopt.js";

component("lensMotion", () => ({
  words: "",
  looking: false,
  /** @type {Record<string, any> | null} settings of the lens that was found */
  found: null,

  async find() {
    const { clip } = this.$store;
    this.looking = true;
    this.found = null;
    this.words = "Looking at how the marks move from the middle to the sides …";
    const told = await clip.guard(() => post(`${clip.base}/lens/motion`));
    this.looking = false;
    this.words = told ? told.words : "";
    if (told) this.found = told.settings;
  },

  use() {
    const { clip } = this.$store;
    if (!this.found) return;
    adoptLens(clip, this.found);
    this.found = null;
  },
}));
