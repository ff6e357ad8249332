// The export screen: choose, queue, follow, look at, download.
import { get, post } from "../lib/api.js";
import { component } from "../lib/component.js";
import { gaveUp, jobWords } from "../lib/wait.js";
import "./player.js";

const BUSY = 700; // ms between looks while something is under way
const QUIET = 8000;

/**
 * @typedef {object} Exported
 * @property {number} id
 * @property {string} file_name
 * @property {string} version
 * @property {string} quality
 * @property {number | null} lines
 * @property {string} range
 * @property {string} created
 * @property {string | null} size
 * @property {string | null} file
 * @property {string | null} film
 * @property {string} report_file
 * @property {Figure[]} figures
 * @property {string[]} notes
 * @property {Job | null} work
 */

/** @param {Job} work */
const wordsOf = (work) => (work.ending ? "done; its numbers follow" : jobWords(work));

/** @param {Job | null} work */
const progress = (work) => ({
  done: work?.done ?? 0,
  total: work?.total || 1,
  progressWords: work && work.state !== "done" ? wordsOf(work) : "",
});

/**
 * An export with the words about it.
 * @param {Exported} one
 */
function described(one) {
  const { work } = one;
  const made = new Date(one.created);
  const when = made.toLocaleString([], { dateStyle: "medium", timeStyle: "short" });
  const lines = one.lines ? `${one.lines} lines` : "full size";
  const failed = work?.state === "failed";
  const about = [one.version, one.quality, lines, `frames ${one.range}`, one.size, when];
  return {
    ...one,
    about: about.filter(Boolean).join(" · "),
    open: Boolean(work?.open),
    again: gaveUp(work),
    ...progress(work),
    failure: failed ? work.message : "",
    hasReport: one.figures.length > 0 || one.notes.length > 0,
  };
}

component("exporting", () => ({
  base: "",
  /** @type {ReturnType<typeof described>[]} */
  exports: [],
  /** @type {{ id: number, name: string }[]} */
  revisions: [],
  /** @type {number[]} */
  heights: [],
  /** @type {string[]} */
  qualities: [],
  /** @type {{ proxy: string, first_time: number } | null} what an export is looked at beside */
  before: null,
  problem: "",
  loaded: false,
  canAsk: false,
  revision: 0,
  lines: 0,
  quality: "good",
  fullWords: "full size",
  poster: "",
  watched: 0, // number of the export that is looked at
  timer: 0,

  init() {
    this.base = `/clips/${this.$root.dataset.clip}/exports`;
    this.look();
  },

  async look() {
    clearTimeout(this.timer);
    let busy = false;
    try {
      const { choices, exports, before } = await get(`${this.base}/list`);
      if (!this.loaded) this.offer(choices);
      this.canAsk = choices.ready;
      this.before = before;
      this.loaded = true;
      this.exports = exports.map(described);
      busy = this.exports.some((one) => one.open);
    } catch (error) {
      this.problem = /** @type {Error} */ (error).message;
    }
    this.timer = window.setTimeout(() => this.look(), busy ? BUSY : QUIET);
  },

  /** @param {any} choices */
  offer(choices) {
    this.revisions = choices.revisions;
    this.heights = choices.heights;
    this.qualities = choices.qualities;
    this.poster = choices.poster ?? "";
    const { full } = choices;
    if (full) this.fullWords = `full: ${full.width} × ${full.height} px`;
    this.revision = choices.revisions[0]?.id ?? 0;
  },

  async ask() {
    const { revision, lines, quality } = this;
    await this.tell(this.base, { revision, lines, quality });
    document.dispatchEvent(new Event("keen:work"));
  },

  /** @param {Exported} one */
  cancel(one) {
    return this.tell(`/work/${one.work?.id}/cancel`);
  },

  /** @param {Exported} one */
  retry(one) {
    return this.tell(`/work/${one.work?.id}/retry`);
  },

  /**
   * @param {string} address
   * @param {Record<string, unknown>} [body]
   */
  async tell(address, body) {
    this.problem = "";
    try {
      await post(address, body);
    } catch (error) {
      this.problem = /** @type {Error} */ (error).message;
    }
    await this.look();
  },

  /** @param {Exported} one */
  watch(one) {
    this.watched = this.watched === one.id ? 0 : one.id;
  },

  /** @param {Exported} one */
  isWatched(one) {
    return this.watched === one.id;
  },

  /** @param {Exported} one */
  watchWords(one) {
    return this.isWatched(one) ? "Close" : "Look";
  },
}));
