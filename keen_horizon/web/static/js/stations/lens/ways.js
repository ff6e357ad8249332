// Which way in to the lens is open, and what it comes to.
import { component } from "../../lib/component.js";
import { settings } from "../../clip/settings.js";
import { defaultsOf, replaceGroup } from "../../clip/treatment.js";
import { letItTurn } from "./adopt.js";

component("lensTools", () => ({
  init() {
    this.$store.clip.tabs.lens = "angle";
  },

  get details() {
    return this.$store.clip.answer?.stations.lens.details ?? {};
  },

  get bends() {
    return (this.$store.clip.treatment?.lens.model ?? "rectilinear") !== "rectilinear";
  },

  /** What is said of a lens of the cabinet that has changed since. */
  get newer() {
    return this.$store.clip.answer?.newer?.words ?? "";
  },

  /** @param {string} way */
  is(way) {
    return this.$store.clip.tabs.lens === way;
  },

  /** @param {string} way */
  tab(way) {
    return this.is(way) ? 0 : -1;
  },

  /** @param {string} way */
  take(way) {
    this.$store.clip.tabs.lens = way;
    this.$store.clip.endTool();
  },

  /** Back to a lens that bends nothing. */
  straighten() {
    this.$store.clip.edit((treatment) => {
      const { motion } = treatment;
      const chosen = settings["motion.model"].choices[motion.model];
      if (chosen.by_angle && motion.angle_of_view === null) motion.model = "decide";
      const { squeeze } = treatment.lens;
      const optics = defaultsOf(settings, "lens", settings["lens.model"].group);
      replaceGroup(treatment, settings, "lens", {
        ...optics,
        squeeze,
        amount: settings["lens.amount"].default,
        found_by: "nothing",
        residual: null,
        profile: null,
        edition: null,
      });
      delete treatment.keys["lens.amount"];
    });
  },

  /**
   * Whoever sets a number of the lens knows it from somewhere else: heard before it is changed.
   * @param {{ name: string, value: unknown }} setting
   */
  byNumbers({ name, value }) {
    const { treatment } = this.$store.clip;
    if (!treatment) return;
    const found = { found_by: "numbers", residual: null, profile: null, edition: null };
    Object.assign(treatment.lens, found);
    if (name === "lens.model") letItTurn(treatment, String(value));
  },
}));
