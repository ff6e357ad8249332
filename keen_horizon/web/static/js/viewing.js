// Playing and viewing: time, views, overlays, marks. Mixed into the clip screen.
import { get, unpack } from "./api.js";
import { parts } from "./parts.js";

const MARK_CHUNK = 60; // frames of marks asked for at once
const MARK_FRAMES = 1800; // frames of marks kept

export const viewing = {
  moved(frame) {
    const at = frame - this.firstFrame;
    this.frame = Math.max(0, Math.min(this.lastIndex, at));
    parts.strip.go(this.frame);
    const seconds = parts.stage.times[frame] - parts.stage.times[this.firstFrame];
    const minutes = Math.floor(Math.abs(seconds) / 60);
    const rest = (Math.abs(seconds) - 60 * minutes).toFixed(2).padStart(5, "0");
    this.clock = `${seconds < 0 ? "−" : ""}${minutes}:${rest} · frame ${frame}`;
    if (this.marks) this.fetchMarks();
    if (this.mode === "split") this.placeDivider();
  },

  playPause() {
    if (!this.frameCount) return;
    if (this.playing) parts.stage.pause();
    else parts.stage.play();
  },

  stepFrames(count) {
    if (this.frameCount) parts.stage.step(count);
  },

  goTightest() {
    parts.stage.pause();
    parts.stage.seek(this.report.tightest_frame);
  },

  toggleSound() {
    this.soundOn = !this.soundOn;
    this.$refs.video.muted = !this.soundOn;
  },

  show(mode) {
    this.mode = parts.stage.mode = mode;
    parts.stage.draw();
    this.$nextTick(() => this.placeDivider());
  },

  overlay(name) {
    this[name] = parts.stage[name] = !this[name];
    this.remember();
    if (name === "marks" && this.marks) this.fetchMarks();
    parts.stage.draw();
  },

  sizeDots(event) {
    this.dotSize = parts.stage.dotSize = Number(event.target.value);
    this.remember();
    parts.stage.draw();
  },

  showComponent(event) {
    event.target.blur();
    parts.strip.show(this.component);
  },

  async fetchMarks() {
    const chunk = Math.floor(this.frame / MARK_CHUNK) * MARK_CHUNK;
    if (!this.ready || !this.marks || parts.stage.markSets.has(this.frame) || this.fetching === chunk) return;
    this.fetching = chunk;
    if (parts.stage.markSets.size > MARK_FRAMES) parts.stage.markSets.clear();
    const to = Math.min(this.lastIndex, chunk + MARK_CHUNK - 1);
    await this.guard(async () => {
      const { first, counts, marks } = await get(`${this.base}/marks?from=${chunk}&to=${to}`);
      const all = unpack(marks);
      let at = 0;
      counts.forEach((count, i) => {
        parts.stage.markSets.set(first + i, all.subarray(3 * at, 3 * (at + count)));
        at += count;
      });
      parts.stage.draw();
    });
    this.fetching = null;
  },
};
