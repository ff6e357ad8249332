// The lens' radial displacement, drawn against the distance from its centre.
import { component } from "../../lib/component.js";
import { drawRadialCurves } from "../../lib/radial-curve.js";

const LEAST = 2; // percent that the scale reaches at least

component("lensCurve", () => ({
  init() {
    const { clip } = this.$store;
    window.Alpine.effect(() => this.draw(clip.answer?.displacement ?? null));
  },

  /** @param {Answer["displacement"]} displacement */
  draw(displacement) {
    if (!displacement) {
      this.$root.replaceChildren();
      return;
    }
    const points = displacement.away.map((away, i) => [away, displacement.moved[i]]);
    drawRadialCurves(this.$root, [{ points }], {
      least: LEAST,
      named: (high) => `${high.toFixed(0)} %`,
      middle: "centre",
    });
  },
}));
