// Tools of the Glass station: fall-off found in the clip, or told by hand.
import { post } from "../lib/api.js";
import { component } from "../lib/component.js";
import { drawRadialCurve } from "../lib/radial-curve.js";
import { jobWords, settled } from "../lib/wait.js";
import { settings } from "../clip/settings.js";
import { defaultsOf } from "../clip/treatment.js";

const LEAST = 1; // stops that the scale reaches at least
const FLAT = [
  [0, 0],
  [100, 0],
];

/** @typedef {{ stops: number, size: number, softness: number }} Shape */

/** @param {Record<string, any>} glass */
const lossesOf = (glass) => [glass.loss_r2, glass.loss_r4, glass.loss_r6];

component("glassTools", () => ({
  words: "",
  isLooking: false,
  /** @type {Shape | null} what is being dragged to */
  wanted: null,
  /** @type {{ shape: Shape, losses: number[] } | null} the last one, and what it came to */
  made: null,
  asking: false,
  keep: false, // what is dragged to was let go

  /** @type {Shape} of a glass that loses nothing */
  even: { stops: 0, size: 0, softness: 0 },

  init() {
    this.even = JSON.parse(this.$root.dataset.even ?? "{}");
  },

  get told() {
    return this.$store.clip.answer?.report.glass ?? null;
  },

  get isEven() {
    return !this.told;
  },

  /** @returns {Shape} */
  get hand() {
    if (this.wanted) return this.wanted;
    // The numbers that were asked for stay, rather than be read off what they came to.
    const { made } = this;
    const losses = lossesOf(this.$store.clip.treatment?.glass ?? {});
    if (made && made.losses.every((loss, i) => loss === losses[i])) return made.shape;
    return this.told?.hand ?? this.even;
  },

  get shown() {
    const { stops, size, softness } = this.hand;
    return { stops: stops.toFixed(2), size: size.toFixed(1), softness: softness.toFixed(0) };
  },

  async find() {
    const { clip } = this.$store;
    this.isLooking = true;
    this.words =
      "A worker looks at how bright the same things are, near the middle and further out …";
    const found = await clip.guard(() =>
      settled(() => post(`${clip.base}/glass/find`), {
        work: (answer) => answer.work,
        tell: (job) => {
          this.words = `Looking at how bright things are: ${jobWords(job)}`;
        },
        failed: "The fall-off was not found.",
      }),
    );
    this.isLooking = false;
    this.words = found?.words ?? "";
    if (found?.settings) this.adopt(found.settings, true);
  },

  /**
   * @param {Event} event
   * @param {keyof Shape} name
   * @param {boolean} [done]
   */
  async shape(event, name, done = false) {
    const value = Number(/** @type {HTMLInputElement} */ (event.target).value);
    if (!Number.isFinite(value)) return;
    const { clip } = this.$store;
    this.wanted = { ...this.hand, [name]: value };
    this.keep = this.keep || done;
    // One question at a time; the last one is always asked.
    if (this.asking) return;
    this.asking = true;
    for (let asked = null; this.wanted !== asked || this.keep;) {
      asked = this.wanted;
      const { keep } = this;
      this.keep = false;
      const found = await clip.guard(() => post(`${clip.base}/glass/shape`, asked));
      if (!found) break;
      this.made = { shape: asked, losses: lossesOf(found.settings) };
      this.adopt(found.settings, keep);
    }
    this.keep = false;
    this.wanted = null;
    this.asking = false;
  },

  /**
   * @param {Event} event
   * @param {keyof Shape} name
   */
  settle(event, name) {
    return this.shape(event, name, true);
  },

  /**
   * @param {Record<string, any>} found
   * @param {boolean} keep
   */
  adopt(found, keep) {
    this.$store.clip.adopt("glass", { ...found, on: true }, keep);
  },

  clear() {
    this.words = "";
    const even = defaultsOf(settings, "glass", settings["glass.loss_r2"].group);
    this.adopt({ ...even, found_by: "nothing", doubt: null }, true);
  },
}));

component("glassCurve", () => ({
  init() {
    const { clip } = this.$store;
    window.Alpine.effect(() => {
      drawRadialCurve(this.$root, clip.answer?.report.glass?.curve ?? FLAT, {
        least: LEAST,
        named: (high) => `+${high.toFixed(1)}`,
        middle: "middle",
      });
    });
  },
}));
