// The clip's range: two handles on a bar that stands for the whole recording. While a handle moves,
// the stage shows the frame it stands at.
import { post } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { live } from "../live.js";

/** @type {Record<string, number>} frames that a key moves a handle */
const WAYS = {
  ArrowLeft: -1,
  ArrowDown: -1,
  ArrowRight: 1,
  ArrowUp: 1,
  PageDown: -25,
  PageUp: 25,
};

component("rangePanel", () => ({
  first: 0, // frames that are wanted
  last: 0,
  asks: "",

  init() {
    const { clip } = this.$store;
    this.$watch("$store.clip.first", () => this.restore());
    this.$watch("$store.clip.last", () => this.restore());
    this.$watch("$store.clip.frameCount", () => this.restore());
    this.$watch("first", () => this.place());
    this.$watch("last", () => this.place());
    if (clip.frameCount) this.restore();
  },

  restore() {
    const { clip } = this.$store;
    [this.first, this.last] = [clip.first, clip.last];
    this.place();
  },

  get changed() {
    const { clip } = this.$store;
    return this.first !== clip.first || this.last !== clip.last;
  },

  /** The first and the last frame leave room for each other. */
  place() {
    const count = Math.max(1, this.$store.clip.frameCount);
    /** @param {number} frame */
    const share = (frame) => `${(100 * frame) / count}%`;
    const { bar, firstEnd, lastEnd } = this.$refs;
    bar.style.left = firstEnd.style.left = share(this.first);
    lastEnd.style.left = share(this.last + 1);
    bar.style.width = share(this.last + 1 - this.first);
    this.asks = "";
  },

  /** @param {PointerEvent} event */
  hold(event) {
    /** @type {HTMLElement} */ (event.currentTarget).setPointerCapture(event.pointerId);
  },

  /**
   * @param {PointerEvent} event
   * @param {"first" | "last"} end
   */
  drag(event, end) {
    const handle = /** @type {HTMLElement} */ (event.currentTarget);
    if (!handle.hasPointerCapture(event.pointerId)) return;
    const { left, width } = this.$refs.track.getBoundingClientRect();
    const edge = Math.round(((event.clientX - left) / width) * this.$store.clip.frameCount);
    this.move(end, end === "first" ? edge : edge - 1);
  },

  /**
   * @param {KeyboardEvent} event
   * @param {"first" | "last"} end
   */
  key(event, end) {
    const way = WAYS[event.key];
    if (!way) return;
    event.preventDefault();
    event.stopPropagation();
    this.move(end, this[end] + (event.shiftKey ? 10 * way : way));
  },

  /**
   * @param {"first" | "last"} end
   * @param {number} frame
   */
  move(end, frame) {
    const { frameCount } = this.$store.clip;
    if (!frameCount) return;
    if (end === "first") this.first = Math.max(0, Math.min(this.last - 1, frame));
    else this.last = Math.min(frameCount - 1, Math.max(this.first + 1, frame));
    live.clock.pause();
    live.clock.seek(this[end], { anywhere: true });
  },

  beginHere() {
    this.first = live.clock.frame;
  },

  endHere() {
    this.last = live.clock.frame;
  },

  async use() {
    const { clip } = this.$store;
    if (!this.changed) this.asks = "Move the first or the last frame first.";
    else if (this.last <= this.first) this.asks = "The last frame has to come after the first.";
    if (this.asks) {
      this.$refs.firstEnd.focus();
      return;
    }
    live.clock.pause();
    await clip.guard(async () => {
      const wanted = { first: this.first, last: this.last };
      clip.state = Object.freeze(await post(`${clip.base}/range`, wanted));
    });
  },
}));
