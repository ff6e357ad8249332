// The keyboard. Mixed into the clip screen.
import { parts } from "./parts.js";

export const keying = {
  key(event) {
    const kind = event.target.tagName;
    const typing = kind === "SELECT" || kind === "TEXTAREA" || (kind === "INPUT" && event.target.type !== "range");
    if (typing || event.altKey) return;
    const command = event.ctrlKey || event.metaKey;
    const name = event.key.length === 1 ? event.key.toLowerCase() : event.key;
    if (command) {
      if (name === "z") this.step(event.shiftKey ? "redo" : "undo");
      else if (name === "y") this.step("redo");
      else return;
      event.preventDefault();
      return;
    }
    if (event.target.getAttribute?.("role") === "radio" && this.chooseNext(event, name)) return;
    // A focused slider keeps its arrows, a focused button its space bar.
    if (kind === "INPUT" && name.startsWith("Arrow")) return;
    if ((kind === "BUTTON" || kind === "SUMMARY") && name === " ") return;
    const act = {
      " ": () => this.playPause(),
      k: () => parts.stage.pause(),
      l: () => this.faster(),
      j: () => this.slower(),
      ArrowLeft: () => this.stepFrames(event.shiftKey ? -10 : -1),
      ArrowRight: () => this.stepFrames(event.shiftKey ? 10 : 1),
      Home: () => parts.stage.seek(this.firstFrame),
      End: () => parts.stage.seek(this.lastFrame),
      o: () => this.peekAt(true),
      g: () => this.overlay("grid"),
      h: () => this.hideAll(),
      Delete: () => this.keysHere && this.deleteKeys(),
      m: () => this.overlay("marks"),
      e: () => this.overlay("bare"),
      f: () => this.goFurthest(),
      t: () => this.tightWords && this.goTightest(),
      "1": () => this.show("original"),
      "2": () => this.show("treated"),
      "3": () => this.show("split"),
      "4": () => this.show("side"),
      "5": () => this.show("difference"),
      "[": () => this.goKey(-1),
      "]": () => this.goKey(1),
      ",": () => this.loopFrom(),
      ".": () => this.loopTo(),
      "+": () => this.nearer(1.5),
      "=": () => this.nearer(1.5),
      "-": () => this.nearer(1 / 1.5),
      "0": () => this.wholePicture(),
      "?": () => { this.help = !this.help; },
      Escape: () => this.escape(),
    }[name];
    if (!act || !parts.stage) return;
    event.preventDefault();
    act();
  },

  // Out of whatever was begun last.
  escape() {
    if (this.tracing) this.wantTrace();
    else if (this.lassoing || this.holding !== null) {
      this.lassoing = false;
      this.holding = null;
      parts.stage.markings.drawing = null;
      parts.stage.drawOver();
    } else if (this.help) this.help = false;
    else if (this.loopFirst !== null) this.endLoop();
    else this.wholePicture();
  },

  // Arrows walk through the choices of a group.
  chooseNext(event, name) {
    const way = { ArrowLeft: -1, ArrowUp: -1, ArrowRight: 1, ArrowDown: 1 }[name];
    if (!way) return false;
    const choices = [...event.target.parentElement.querySelectorAll('[role="radio"]')];
    const next = choices[(choices.indexOf(event.target) + way + choices.length) % choices.length];
    event.preventDefault();
    next.focus();
    next.click();
    return true;
  },

  // A button that was clicked gives the keyboard back: the space bar is for playing.
  giveBack(event) {
    if (event.detail > 0) event.target.closest?.("button, summary")?.blur();
  },

  keyUp(event) {
    if (event.key.toLowerCase() === "o") this.peekAt(false);
  },

  peekAt(on) {
    if (parts.stage.peek === on) return;
    parts.stage.peek = on;
    parts.stage.draw();
  },

  // L plays, again faster; J halves the speed, and stepping back takes over below a quarter.
  faster() {
    const video = this.$refs.video;
    if (video.paused) {
      video.playbackRate = 1;
      parts.stage.play();
    } else video.playbackRate = Math.min(4, video.playbackRate * 2);
  },

  slower() {
    const video = this.$refs.video;
    if (!video.paused && video.playbackRate > 0.25) video.playbackRate /= 2;
    else this.stepFrames(-1);
  },
};
