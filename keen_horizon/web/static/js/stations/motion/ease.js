// Calm given up around a moment, and only there.
import { component } from "../../lib/component.js";
import { live } from "../../clip/live.js";
import { alongLine, keysOf, putKey } from "../../clip/treatment.js";

const NAME = "motion.ease";
const EASED = 70; // percent of the calm given up at the moment that is eased
const SECONDS = 0.8; // on either side of it
const CLOSE = 3; // frames within which another keyframe will do

component("easeTools", () => ({
  get tightest() {
    const figures = this.$store.clip.answer?.stations.frame.figures ?? [];
    return figures.find((figure) => figure.frame !== null)?.frame ?? null;
  },

  easeHere() {
    this.ease(this.$store.clip.frame);
  },

  easeTightest() {
    if (this.tightest === null) return;
    this.$store.clip.go(this.tightest);
    this.ease(this.tightest);
  },

  /** @param {number} at frame of the recording */
  ease(at) {
    const { clip } = this.$store;
    const { clock } = live;
    /** @param {number} seconds */
    const near = (seconds) =>
      Math.max(clip.first, Math.min(clip.last, clock.frameAt(clock.times[at] + seconds)));
    const line = clip.isKeyed(NAME) ? clip.keyedLines[NAME] : null;
    clip.edit((treatment) => {
      const usual = treatment.motion.ease;
      for (const frame of [near(-SECONDS), near(SECONDS)]) {
        const has = keysOf(treatment, NAME).some((key) => Math.abs(key.frame - frame) < CLOSE);
        const value = line ? alongLine(line, frame - clip.first) : usual;
        if (frame !== at && !has) putKey(treatment, NAME, frame, value);
      }
      putKey(treatment, NAME, at, EASED);
    });
  },
}));
