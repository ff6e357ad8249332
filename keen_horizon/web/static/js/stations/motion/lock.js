// The view that a lock-off gives.
import { component } from "../../lib/component.js";

component("lockTools", () => ({
  get shown() {
    return this.$store.clip.isShown("motion.lock_frame");
  },

  get view() {
    return this.$store.clip.answer?.stations.motion.details.view ?? "";
  },

  /** What it costs to hold this view still, where that is more than may be spent. */
  get offer() {
    return this.$store.clip.answer?.stations.motion.details.locking ?? "";
  },

  get isLeast() {
    return this.$store.clip.value("motion.lock_frame") === null;
  },

  here() {
    this.$store.clip.change("motion.lock_frame", this.$store.clip.frame);
  },

  least() {
    this.$store.clip.change("motion.lock_frame", null);
  },

  follow() {
    this.$store.clip.change("motion.aim", "follow");
  },
}));
