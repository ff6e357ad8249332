// Calm, of all components together or of each on its own; and what it costs.
import { post } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { finished, pause } from "../../lib/wait.js";
import { settings } from "../../clip/settings.js";
import { CostChart } from "./cost-chart.js";

// Those that this kind of clip has.
const COMPONENTS = [
  "motion.calm_across",
  "motion.calm_updown",
  "motion.calm_roll",
  "motion.calm_size",
].filter((name) => name in settings);
const TWO = 2; // components of the model that knows only shifts
const QUIET = 500; // ms without a change before the curve is asked for: the picture comes first

/** @typedef {{ calm: number, kept: string, left: string, why: string }} Start */

component("calmTools", () => ({
  get calms() {
    const { clip } = this.$store;
    return COMPONENTS.map((name) => clip.treatment?.motion[name.split(".")[1]] ?? null);
  },

  get linked() {
    return this.calms.every((calm) => calm === null);
  },

  /** @param {string} name */
  has(name) {
    const used = this.$store.clip.treatment?.motion.model === "shift" ? TWO : COMPONENTS.length;
    return COMPONENTS.indexOf(name) < used;
  },

  get left() {
    return this.$store.clip.answer?.stations.motion.details.left ?? "";
  },

  /** Each on its own; or together again, at the calm that all had before they were parted. */
  turnLink() {
    const { linked } = this;
    this.$store.clip.edit(({ motion }) => {
      for (const name of COMPONENTS) motion[name.split(".")[1]] = linked ? motion.calm : null;
    });
  },
}));

component("costCurve", () => ({
  /** @type {Start[]} */
  starts: [],
  words: "",
  priced: "", // what the curve on show depends on
  /** @type {CostChart | null} */
  chart: null,

  init() {
    const { clip } = this.$store;
    const chart = new CostChart(this.$refs.chart, (calm, settled) =>
      clip.change("motion.calm", calm, settled),
    );
    this.chart = chart;
    window.Alpine.effect(() => {
      if (!clip.answer) return;
      const { picture_kept: kept, shake_after: shake } = clip.answer.report;
      chart.present(kept, shake);
      this.price(clip.answer);
    });
  },

  /**
   * The curve changes with everything but the calm; the server says with what.
   * @param {Answer} answer
   */
  async price(answer) {
    const { clip } = this.$store;
    const wanted = JSON.stringify([answer.keys.cost, answer.versions.map((one) => one.name)]);
    if (this.priced === wanted) return;
    this.priced = wanted;
    this.starts = [];
    this.words = "Pricing …";
    const current = () => this.priced === wanted;
    try {
      await this.quiet(current);
      const { treatment } = answer;
      for (let more = true; more && current();) {
        const curve = await post(`${clip.base}/cost`, { treatment });
        if (!current()) return;
        this.take(curve);
        more = curve.more;
        if (curve.work) {
          const told = () => {
            this.words = "A worker is pricing this clip …";
          };
          more = await finished(curve.work, told, current, "The pricing was cancelled.");
        }
        while (clip.asking && current()) await pause(QUIET / 10);
      }
    } catch (error) {
      this.words = /** @type {Error} */ (error).message;
      this.priced = ""; // the next change asks again
    }
  },

  /**
   * Wait until the treatment has been left alone for a moment.
   * @param {() => boolean} current
   */
  async quiet(current) {
    const { clip } = this.$store;
    for (let seen = -1; current() && (clip.asking || seen !== clip.answered);) {
      seen = clip.answered;
      await pause(QUIET);
    }
  },

  /** @param {any} curve */
  take(curve) {
    this.chart?.set(curve);
    this.starts = curve.starts;
    this.words = curve.more ? "Pricing …" : "";
  },

  /** @param {Start} start */
  begin(start) {
    this.$store.clip.edit(({ motion }) => Object.assign(motion, { calm: start.calm, on: true }));
  },

  /** @param {Start} start */
  isNow(start) {
    const motion = this.$store.clip.treatment?.motion;
    return Boolean(motion?.on && motion.calm === start.calm);
  },
}));
