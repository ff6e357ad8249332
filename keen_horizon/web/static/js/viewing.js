// Playing and viewing: time, views, overlays, marks. Mixed into the clip screen.
import { parts } from "./parts.js";

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
    if (this.ready) {
      this.reflectKeyed();
      this.followLattice();
    }
    if (this.mode === "split") this.placeDivider();
    if (this.edgesOn() && !this.playing) {
      clearTimeout(this.lookSoon);
      this.lookSoon = setTimeout(() => this.watchEdges(), 350);
    }
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
    // A difference needs the picture before, too.
    if (mode === "difference" && !this.playing) parts.stage.seek(parts.stage.frame);
    parts.stage.draw();
    this.$nextTick(() => this.placeDivider());
  },

  overlay(name) {
    parts.stage.clean = false;
    this[name] = !this[name];
    if (name === "marks") parts.stage.markings.on = this.marks;
    else parts.stage[name] = this[name];
    this.remember();
    if (name === "marks" && this.marks) this.fetchMarks();
    parts.stage.draw();
  },

  showComponent(event) {
    event.target.blur();
    parts.strip.show(this.component);
  },
};
