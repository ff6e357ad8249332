// Swell: a disc that is magnified, on the picture.
import { component } from "../../lib/component.js";
import { live } from "../../clip/live.js";
import { dot, outlined } from "../../clip/stage/ink.js";
import { gripAt } from "../../clip/stage/pointer.js";
import { planeAt, planeSpot, round, viewNow } from "./plane.js";

component("swellTools", () => ({
  init() {
    live.stage?.overlay.extras.push((pen, part) => this.draw(pen, part));
    this.$watch("$store.clip.folds.swell", () => live.stage?.drawOver());
  },

  get words() {
    const strength = this.$store.clip.value("frame.swell");
    return strength === 1 || strength === null ? "" : `× ${strength}`;
  },

  /**
   * @param {Record<string, number>} values
   * @param {boolean} settled
   */
  put(values, settled) {
    const { clip } = this.$store;
    for (const [key, value] of Object.entries(values)) clip.put(`frame.${key}`, round(value));
    clip.solve(settled);
  },

  /**
   * @param {Pen} pen
   * @param {Part} part
   */
  draw(pen, part) {
    const { clip } = this.$store;
    const on = clip.folds.swell && clip.ready && clip.station === "frame" && part.treated;
    if (!on || clip.value("frame.square_up")) return;
    const { ratio, overlay } = live.stage;
    const [x, y, radius] = ["x", "y", "radius"].map((key) => clip.value(`frame.swell_${key}`));
    const [zoom] = viewNow(clip);
    const long = (radius / 100) * part.box.height * zoom;
    const spot = planeSpot(clip, part, x, y);
    this.drawDisc(pen, spot, long);
    if (clip.value("frame.swell_twin")) {
      this.drawDisc(pen, planeSpot(clip, part, 100 - x, 100 - y), long);
    }
    /** @type {Spot} */
    const rim = [spot[0] + long, spot[1]];
    dot(pen, spot, 5, ratio);
    dot(pen, rim, 5, ratio);
    overlay.grips.push(
      gripAt(spot, (to, settled) => {
        const [u, v] = planeAt(clip, to);
        this.put({ swell_x: u, swell_y: v }, settled);
      }),
      gripAt(rim, (to, settled) => {
        const away = Math.hypot(to[0] - spot[0], to[1] - spot[1]);
        const wanted = (100 * away) / (part.box.height * zoom);
        this.put({ swell_radius: Math.max(2, wanted) }, settled);
      }),
    );
  },

  /**
   * @param {Pen} pen
   * @param {Spot} spot
   * @param {number} radius
   */
  drawDisc(pen, [x, y], radius) {
    const rim = 1 - this.$store.clip.value("frame.swell_rim") / 100;
    for (const [share, dash] of /** @type {[number, number[]][]} */ ([
      [1, []],
      [rim, [5, 4]],
    ])) {
      pen.beginPath();
      pen.arc(x, y, Math.max(0.5, radius * share), 0, 7);
      outlined(pen, { colour: "#fff", width: 1.5, ratio: live.stage.ratio, dash });
    }
  },
}));
