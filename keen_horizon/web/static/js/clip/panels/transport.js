// Playing and viewing: the buttons under the picture, and what is compared with.
import { post } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { settled } from "../../lib/wait.js";
import { live } from "../live.js";
import { drawnOf } from "../stage/drawn.js";

component("transport", () => ({
  sound: false,
  against: "", // number of a version
  againstName: "Original",
  comparing: false,

  get clock() {
    // The clock's own words, asked for with every frame.
    return this.$store.clip.frame >= 0 && live.clock ? live.clock.words : "";
  },

  get hasSound() {
    return this.$store.clip.state?.sound ?? false;
  },

  get versions() {
    return this.$store.clip.answer?.versions ?? [];
  },

  get detail() {
    const { zoom } = this.$store.view;
    return zoom > 1 ? `× ${zoom.toFixed(1)}` : "";
  },

  get loop() {
    const { loop } = this.$store.clip;
    return loop ? `${loop[0]}–${loop[1]}` : "";
  },

  play() {
    if (!this.$store.clip.frameCount) return;
    if (live.clock.playing) live.clock.pause();
    else live.clock.play();
  },

  /** @param {number} count */
  step(count) {
    const withBefore = this.$store.view.mode === "difference";
    if (this.$store.clip.frameCount) live.clock.step(count, { withBefore });
  },

  toggleSound() {
    this.sound = !this.sound;
    live.clock.video.muted = !this.sound;
  },

  whole() {
    live.stage.look(1);
  },

  async compare() {
    const { clip, view } = this.$store;
    const wanted = this.against;
    if (!wanted) {
      live.stage.against = null;
      this.againstName = "Original";
      live.stage.draw();
      return;
    }
    this.comparing = true;
    const answer = await clip.guard(() =>
      settled(() => post(`${clip.base}/versions/${wanted}/look?near=${clip.at}`), {
        work: (one) => one.work,
        wanted: () => wanted === this.against,
        failed: "The solve was cancelled.",
      }),
    );
    this.comparing = false;
    if (!answer) return;
    live.stage.against = { ...drawnOf(answer).treated, name: answer.name };
    this.againstName = answer.name;
    if (view.mode === "treated") view.show("split");
    live.stage.draw();
  },
}));
