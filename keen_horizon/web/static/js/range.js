// The clip's range: two handles on a bar that stands for the whole recording. Mixed into the clip
// screen. While a handle moves, the stage shows the frame it stands at.
import { post } from "./api.js";
import { parts } from "./parts.js";

export const ranging = {
  rangeChanged: false,
  firstWanted: 0,
  lastWanted: 0,

  // Draw the wanted range; the first and the last frame leave room for each other.
  placeRange() {
    const share = (frame) => `${(100 * frame) / Math.max(1, this.frameCount)}%`;
    this.$refs.rangeBar.style.left = this.$refs.rangeFirst.style.left = share(this.firstWanted);
    this.$refs.rangeLast.style.left = share(this.lastWanted + 1);
    this.$refs.rangeBar.style.width = share(this.lastWanted + 1 - this.firstWanted);
    this.rangeChanged = this.firstWanted !== this.firstFrame || this.lastWanted !== this.lastFrame;
  },

  holdRange() {
    for (const name of ["firstWanted", "lastWanted"]) this.$watch(name, () => this.placeRange());
    for (const [handle, end] of [[this.$refs.rangeFirst, "first"], [this.$refs.rangeLast, "last"]]) {
      handle.addEventListener("pointerdown", (event) => handle.setPointerCapture(event.pointerId));
      handle.addEventListener("pointermove", (event) => {
        if (!handle.hasPointerCapture(event.pointerId)) return;
        const { left, width } = this.$refs.rangeTrack.getBoundingClientRect();
        const edge = Math.round(((event.clientX - left) / width) * this.frameCount);
        this.moveEnd(end, end === "first" ? edge : edge - 1);
      });
      handle.addEventListener("keydown", (event) => {
        const way = { ArrowLeft: -1, ArrowDown: -1, ArrowRight: 1, ArrowUp: 1, PageDown: -25, PageUp: 25 }[event.key];
        if (!way) return;
        event.preventDefault();
        event.stopPropagation();
        this.moveEnd(end, this[`${end}Wanted`] + (event.shiftKey ? 10 * way : way));
      });
    }
  },

  moveEnd(end, frame) {
    if (!this.frameCount) return;
    if (end === "first") this.firstWanted = Math.max(0, Math.min(this.lastWanted - 1, frame));
    else this.lastWanted = Math.min(this.frameCount - 1, Math.max(this.firstWanted + 1, frame));
    parts.stage.pause();
    parts.stage.seek(this[`${end}Wanted`], true);
  },

  beginHere() {
    this.firstWanted = parts.stage.frame;
  },

  endHere() {
    this.lastWanted = parts.stage.frame;
  },

  async applyRange() {
    const state = await this.guard(() => post(`${this.base}/range`, { first: this.firstWanted, last: this.lastWanted }));
    if (!state) return;
    parts.stage.pause();
    this.ready = false;
    this.take(state);
  },
};
