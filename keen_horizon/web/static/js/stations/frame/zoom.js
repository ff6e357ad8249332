// Zoom over time, drawn.
import { unpack } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { extent } from "../../clip/strip/lines.js";

const [WIDTH, FLOOR, HEIGHT] = [240, 36, 32];
const POINTS = 300;
const CHANGES = 1e-4; // of the zoom, from which on it is said to change

component("zoomOverTime", () => ({
  words: "",
  changes: false,

  init() {
    const { clip } = this.$store;
    window.Alpine.effect(() => {
      if (clip.answer?.whole) this.draw(unpack(clip.answer.strip.zoom));
    });
  },

  /** @param {Float32Array} zoom */
  draw(zoom) {
    const [least, most] = extent([zoom]);
    const mean = zoom.reduce((a, b) => a + b, 0) / zoom.length;
    this.changes = most - least > CHANGES;
    this.words = this.changes
      ? `zoom × ${least.toFixed(3)} to ${most.toFixed(3)}, mean ${mean.toFixed(3)}`
      : `zoom × ${most.toFixed(3)} throughout`;
    const every = Math.max(1, Math.floor(zoom.length / POINTS));
    const span = Math.max(most - least, 1e-6);
    let path = "";
    for (let i = 0; i < zoom.length; i += every) {
      const x = (i / Math.max(1, zoom.length - 1)) * WIDTH;
      const y = FLOOR - ((zoom[i] - least) / span) * HEIGHT;
      path += `${i ? "L" : "M"}${x.toFixed(1)} ${y.toFixed(1)}`;
    }
    this.$refs.line.setAttribute("d", path);
  },
}));
