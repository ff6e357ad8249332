// The horizon line: two ends over the treated picture, in shares of it.
import { post } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { live } from "../../clip/live.js";
import { dot, outlined, through } from "../../clip/stage/ink.js";
import { gripAt } from "../../clip/stage/pointer.js";

/** @type {[Place, Place]} */
const START = [
  [0.2, 0.5],
  [0.8, 0.5],
];

/**
 * The tilt of a line, degrees clockwise.
 * @param {Place} a
 * @param {Place} b
 */
const tiltOf = (a, b) => (Math.atan2(b[1] - a[1], b[0] - a[0]) * 180) / Math.PI;

/**
 * How far a line bends from the straight one between its ends, at most.
 * @param {Place[]} along
 */
export function bendOf(along) {
  const [first, last] = [along[0], along[along.length - 1]];
  const [dx, dy] = [last[0] - first[0], last[1] - first[1]];
  const length = Math.hypot(dx, dy) || 1;
  const away = along.map(([x, y]) => Math.abs((x - first[0]) * dy - (y - first[1]) * dx) / length);
  return Math.max(...away);
}

component("horizonTools", () => ({
  /** @type {[Place, Place] | null} */
  ends: null,
  words: "",
  /** @type {number | null} degrees clockwise */
  tilt: null,
  asked: 0, // measures so far: what an earlier one tells late is of a line that is gone

  init() {
    live.stage?.overlay.extras.push((pen, part) => this.draw(pen, part));
  },

  get isOn() {
    return this.ends !== null;
  },

  get mayLevel() {
    return this.tilt !== null;
  },

  want() {
    const { clip } = this.$store;
    this.asked += 1;
    this.ends = this.ends ? null : [[...START[0]], [...START[1]]];
    this.words = this.ends ? "Drag its ends onto the horizon." : "";
    this.tilt = null;
    live.clock.pause();
    if (this.ends) clip.lookAt(live.clock.frame);
    live.stage.drawOver();
  },

  /** The part of the stage that is treated, and a spot of it in px of the output. */
  treated() {
    const { stage } = live;
    const part = stage.layout().find((one) => one.treated);
    if (!part) return null;
    const { box } = part;
    /**
     * @param {Spot} spot
     * @returns {Place}
     */
    const pixels = ([x, y]) => [
      ((x - box.left) / box.width) * stage.output.width * stage.output.aspect,
      ((y - box.top) / box.height) * stage.output.height,
    ];
    return { part, pixels };
  },

  async measure() {
    const { clip } = this.$store;
    const { stage } = live;
    const seen = this.treated();
    if (!seen || !this.ends) return;
    const { part, pixels } = seen;
    const { frame } = live.clock;
    this.asked += 1;
    const now = this.asked;
    const spots = this.ends.map((end) => spotOf(part, end));
    this.tilt = tiltOf(pixels(spots[0]), pixels(spots[1]));
    this.words = `Tilt ${this.tilt.toFixed(2)}°. Looking how it bends …`;
    if (!(await clip.lookAt(frame)) || now !== this.asked) return;
    const pins = spots.map((spot) => stage.sourceAt(spot));
    try {
      const { points } = await post(`${clip.base}/lens/trace`, { frame, pins });
      if (now !== this.asked) return;
      const along = points.map((/** @type {Place} */ point) => pixels(stage.place(part, point)));
      this.tilt = tiltOf(along[0], along[along.length - 1]);
      this.words = `Tilt ${this.tilt.toFixed(2)}°, bent by ${bendOf(along).toFixed(1)} px.`;
    } catch {
      if (now !== this.asked) return;
      const tilt = this.tilt.toFixed(2);
      this.words = `Tilt ${tilt}°; no continuous edge lies under the line, so its bend is not known.`;
    }
  },

  level() {
    const { clip } = this.$store;
    if (this.tilt === null) return;
    const turn = Math.round((clip.value("frame.turn") - this.tilt) * 100) / 100;
    this.ends = this.tilt = null;
    this.asked += 1;
    this.words = "";
    clip.change("frame.turn", turn);
  },

  /**
   * @param {Pen} pen
   * @param {Part} part
   */
  draw(pen, part) {
    if (!this.ends || !part.treated || this.$store.clip.station !== "lens") return;
    const { ratio, overlay } = live.stage;
    const spots = this.ends.map((end) => spotOf(part, end));
    through(pen, spots);
    outlined(pen, { width: 1.6, ratio });
    spots.forEach((spot, k) => {
      dot(pen, spot, 6, ratio);
      const move = (/** @type {Spot} */ to, /** @type {boolean} */ settled) => {
        if (!this.ends) return;
        const { box } = part;
        this.ends[k] = [(to[0] - box.left) / box.width, (to[1] - box.top) / box.height];
        if (settled) this.measure();
      };
      overlay.grips.push(gripAt(spot, move, true));
    });
  },
}));

/**
 * @param {Part} part
 * @param {Place} place share of the picture
 * @returns {Spot}
 */
const spotOf = ({ box }, [u, v]) => [box.left + u * box.width, box.top + v * box.height];
