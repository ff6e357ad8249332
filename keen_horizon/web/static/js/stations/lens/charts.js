// Charts: photographs or frames of a chessboard, and the lens that they give.
import { post, send } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { drawn } from "../../lib/svg.js";
import { settled } from "../../lib/wait.js";
import { adoptLens } from "./adopt.js";

const [WIDTH, HEIGHT] = [160, 90]; // of the drawing of where corners were seen

/** @typedef {{ key: string, name: string }} Photo */
/** @typedef {{ name: string, fault: string, left_out?: boolean, residual?: number | null }} View */

/** @param {View} view */
function viewWords(view) {
  if (view.fault) return view.fault;
  if (view.left_out) return "left out";
  return typeof view.residual === "number" ? `${view.residual.toFixed(3)} px` : "found";
}

component("lensCharts", () => ({
  columns: 9, // inner corners
  rows: 6,
  paper: "A4",
  words: "",
  busy: false,
  /** @type {{ index: number, name: string, bad: string, words: string }[]} */
  views: [],
  /** @type {Record<string, any> | null} settings of the lens that was found */
  found: null,
  covered: false,

  /** @param {"pdf" | "svg"} kind */
  file(kind) {
    return `/chart.${kind}?columns=${this.columns}&rows=${this.rows}&paper=${this.paper}`;
  },

  /** @param {Event} event */
  async addPhotos(event) {
    const input = /** @type {HTMLInputElement} */ (event.target);
    const files = [...(input.files ?? [])];
    input.value = "";
    const { clip } = this.$store;
    /** @type {Photo[]} */
    const photos = [];
    await clip.guard(async () => {
      for (const file of files) {
        this.words = `Taking ${photos.length + 1} of ${files.length} …`;
        photos.push(await send(`${clip.base}/photos`, file));
      }
    });
    this.words = "";
    if (photos.length) await this.read(photos);
  },

  async demo() {
    const { clip } = this.$store;
    const answer = await clip.guard(() => post(`${clip.base}/demo-charts`));
    if (answer) await this.read(answer.photos);
  },

  inClip() {
    return this.read([]);
  },

  /** @param {Photo[]} photos none: look in the clip */
  async read(photos) {
    const { clip } = this.$store;
    [this.found, this.views, this.covered, this.busy] = [null, [], false, true];
    this.words = "Looking for charts …";
    const asked = { columns: this.columns, rows: this.rows, photos };
    const answer = await clip.guard(() =>
      settled(() => post(`${clip.base}/chart`, asked), {
        work: (one) => one.work,
        tell: (job) => {
          if (job.total) this.words = `Looking for charts: ${job.done} of ${job.total} …`;
        },
        failed: "The charts could not be read.",
      }),
    );
    this.busy = false;
    if (answer) this.take(answer);
    else this.words = "";
  },

  /** @param {any} answer */
  take(answer) {
    this.views = answer.views.map((/** @type {View} */ view, /** @type {number} */ index) => ({
      index,
      name: view.name,
      bad: view.fault || view.left_out ? "is-bad" : "",
      words: viewWords(view),
    }));
    const problem = answer.problem || answer.refusal;
    this.words = problem || `Residual ${answer.residual.toFixed(3)} px. ${answer.words.join(" ")}`;
    this.found = problem ? null : answer.settings;
    this.covered = Boolean(answer.covered);
    if (answer.covered) this.drawCoverage(answer.covered);
  },

  use() {
    if (this.found) adoptLens(this.$store.clip, this.found);
  },

  /**
   * Where in the frame corners were seen: the more, the darker.
   * @param {number[][]} covered
   */
  drawCoverage(covered) {
    const { coverage } = this.$refs;
    coverage.replaceChildren();
    const most = Math.max(1, ...covered.flat());
    const [wide, high] = [WIDTH / covered[0].length, HEIGHT / covered.length];
    covered.forEach((line, j) =>
      line.forEach((count, i) => {
        const box = { x: wide * i + 0.5, y: high * j + 0.5, width: wide - 1, height: high - 1 };
        /** @type {Record<string, string | number>} */
        const ink = count
          ? { class: "seen", "fill-opacity": 0.25 + (0.75 * count) / most }
          : { class: "unseen" };
        coverage.append(drawn("rect", { ...box, ...ink }, "", `${count} corners`));
      }),
    );
  },
}));
