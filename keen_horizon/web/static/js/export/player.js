// An export on its page, before and after: the recording's proxy and the finished film, in step.
import { component } from "../lib/component.js";

const APART = 0.06; // seconds that the two may drift apart while they play
const STEP = 1; // seconds that an arrow key goes

component("player", (/** @type {string} */ film, /** @type {any} */ before) => ({
  film,
  proxy: before?.proxy ?? "",
  offset: before?.first_time ?? 0, // where the film begins in the recording, seconds
  playing: false,
  at: 0,
  length: 0,
  problem: "",

  init() {
    const { after } = this.$refs;
    after.addEventListener("loadedmetadata", () => {
      this.length = after.duration;
      this.seek(0);
    });
    after.addEventListener("timeupdate", () => this.follow());
    after.addEventListener("play", () => this.follow());
    after.addEventListener("pause", () => this.follow());
    after.addEventListener("ended", () => this.seek(0));
    after.addEventListener("error", () => {
      this.problem = "This browser cannot play the finished file; download it to see it.";
    });
  },

  /** The recording is kept where the film is. */
  follow() {
    const { after, source } = this.$refs;
    this.playing = !after.paused;
    this.at = after.currentTime;
    const there = after.currentTime + this.offset;
    if (Math.abs(source.currentTime - there) > APART) source.currentTime = there;
    if (this.playing && source.paused) source.play().catch(() => {});
    if (!this.playing && !source.paused) source.pause();
  },

  toggle() {
    const { after } = this.$refs;
    if (after.paused) after.play().catch(() => {});
    else after.pause();
  },

  /** @param {number} to seconds */
  seek(to) {
    this.$refs.after.currentTime = Math.max(0, Math.min(this.length, to));
    this.follow();
  },

  /** @param {Event} event */
  slide(event) {
    this.seek(Number(/** @type {HTMLInputElement} */ (event.target).value));
  },

  /** @param {KeyboardEvent} event */
  key(event) {
    const way = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    if (event.key === " ") this.toggle();
    else if (way) this.seek(this.at + way * STEP);
    else return;
    event.preventDefault();
  },

  get playWords() {
    return this.playing ? "Pause" : "Play";
  },

  get clock() {
    return `${this.at.toFixed(1)} of ${this.length.toFixed(1)} s`;
  },
}));
