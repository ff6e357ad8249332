// The export screen.
import { get, jobWords, post } from "./api.js";

const FIGURES = [
  ["Picture kept", (r) => `${r.picture_kept.toFixed(1)} %`],
  ["Zoom", (r) => `× ${r.zoom.toFixed(3)}`],
  ["Tightest frame", (r) => `${r.tightest_frame}`],
  ["Source px per output px", (r) => r.pixels_per_output_pixel.toFixed(3)],
  ["Bare edges, most", (r) => `${r.bare_edges.toFixed(1)} %`],
  ["Shake before", (r) => r.words.shake.before],
  ["Shake after", (r) => r.words.shake.after],
  ["Shake removed", (r) => r.words.shake_removed],
  ["Wobble", (r) => r.words.wobble || "not known"],
  ["Borrowed, most", (r) => `${(r.borrowed_most || 0).toFixed(1)} %`],
  ["Stability before", (r) => r.stability_score_before.toFixed(3)],
  ["Stability after", (r) => r.stability_score.toFixed(3)],
  ["Distortion value", (r) => r.distortion_value.toFixed(3)],
  ["Cropping ratio", (r) => r.cropping_ratio.toFixed(3)],
  ["Weak frames", (r) => `${r.weak_frames}`],
  ["Cuts", (r) => `${r.cuts.length}`],
  ["Frames", (r) => `${r.frame_count}`],
  ["Output", (r) => `${r.output.width} × ${r.output.height} px`],
  ["Measure took", (r) => `${r.seconds.measure.toFixed(1)} s`],
  ["Solve took", (r) => (r.seconds.solve < 0.005 ? "solved before" : `${r.seconds.solve.toFixed(2)} s`)],
  ["Render took", (r) => `${r.seconds.render.toFixed(1)} s`],
];

document.addEventListener("alpine:init", () => {
  window.Alpine.data("exporting", () => ({
    exports: [], revisions: [], heights: [], problem: "", loaded: false, canAsk: false,
    revision: 0, lines: 0, quality: "good", fullWords: "full size", poster: "",

    init() {
      this.base = `/clips/${this.$root.dataset.clip}/exports`;
      this.look();
    },

    async look() {
      clearTimeout(this.timer);
      let busy = false;
      try {
        const { choices, exports } = await get(`${this.base}/list`);
        if (!this.loaded) {
          this.revisions = choices.revisions;
          this.heights = choices.heights;
          this.poster = choices.poster;
          this.fullWords = choices.full ? `full: ${choices.full.width} × ${choices.full.height} px` : "full size";
          this.revision = choices.revisions.length ? choices.revisions[0].id : 0;
        }
        this.canAsk = choices.ready;
        this.loaded = true;
        this.exports = exports.map((x) => this.describe(x));
        busy = this.exports.some((x) => x.open);
      } catch (error) {
        this.problem = error.message;
      }
      this.timer = setTimeout(() => this.look(), busy ? 700 : 8000);
    },

    describe(x) {
      const work = x.work;
      const made = new Date(x.created).toLocaleString([], { dateStyle: "medium", timeStyle: "short" });
      return {
        ...x,
        about: [x.version, x.quality, x.lines ? `${x.lines} lines` : "full size", `frames ${x.range}`, x.size, made].filter(Boolean).join(" · "),
        open: Boolean(work && work.open),
        again: Boolean(work && (work.state === "failed" || work.state === "cancelled")),
        progressWords: work && work.state !== "done" ? jobWords(work) : "",
        failure: work && work.state === "failed" ? work.message : "",
        figures: x.report ? FIGURES.map(([name, words]) => ({ name, value: words(x.report) })) : [],
        notes: x.report ? [x.report.sound, `Shake: ${x.report.shake_measure}.`, ...x.report.notes] : [],
      };
    },

    async ask() {
      this.problem = "";
      try {
        await post(this.base, { revision: this.revision, lines: this.lines, quality: this.quality });
        document.dispatchEvent(new Event("keen:work"));
      } catch (error) {
        this.problem = error.message;
      }
      this.look();
    },

    async cancel(x) {
      await post(`/work/${x.work.id}/cancel`);
      this.look();
    },

    async retry(x) {
      await post(`/work/${x.work.id}/retry`);
      this.look();
    },
  }));
});
