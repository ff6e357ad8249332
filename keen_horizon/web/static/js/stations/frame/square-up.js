// Four corners that are squared up: set on the picture, or typed.
import { component } from "../../lib/component.js";
import { live } from "../../clip/live.js";
import { settings } from "../../clip/settings.js";
import { dropKey, putKey } from "../../clip/treatment.js";
import { label, outlined, through } from "../../clip/stage/ink.js";
import { gripAt } from "../../clip/stage/pointer.js";
import { planeAt, planeSpot, round } from "./plane.js";

const CORNERS = ["top_left", "top_right", "bottom_right", "bottom_left"];
const NAMES = CORNERS.flatMap((corner) => [`frame.${corner}_x`, `frame.${corner}_y`]);
const LONG = 15; // css px of a corner's arms
const INSET = 0.1; // share of the picture that corners begin inside of it

/** @param {string} corner */
const words = (corner) => corner.replace("_", " ");

/**
 * What may be entered.
 * @param {string} name
 * @param {number} value
 */
const within = (name, value) =>
  Math.max(settings[name].low ?? value, Math.min(settings[name].high ?? value, value));

component("squareUp", () => ({
  setting: false, // corners are being set, on the picture as it is

  init() {
    live.stage?.overlay.extras.push((pen, part) => this.draw(pen, part));
  },

  get isOn() {
    return this.$store.clip.value("frame.square_up");
  },

  get shown() {
    return this.setting || this.isOn;
  },

  get words() {
    return this.setting
      ? "Drag the corners onto those of something square, then square up."
      : "Makes what lies between four corners square.";
  },

  get actWords() {
    return this.setting ? "Square up" : "Set corners";
  },

  get corners() {
    const { clip } = this.$store;
    return CORNERS.map((corner) => ({
      key: corner,
      name: words(corner),
      x: round(clip.value(`frame.${corner}_x`) ?? 0),
      y: round(clip.value(`frame.${corner}_y`) ?? 0),
    }));
  },

  get isKeyed() {
    return this.$store.clip.isKeyed(NAMES[0]) ? "is-keyed" : "";
  },

  get here() {
    return this.$store.clip.hasKeyHere(NAMES[0]);
  },

  /** The picture is shown as it is while its corners are set. */
  act() {
    const { clip } = this.$store;
    this.setting = !this.setting;
    live.clock.pause();
    if (this.setting) this.bringIntoSight();
    clip.change("frame.square_up", !this.setting, !this.setting);
  },

  /** Corners that nobody has set yet and that lie off the stage could not be taken hold of. */
  bringIntoSight() {
    const { clip } = this.$store;
    const part = live.stage.layout().find((one) => one.treated);
    if (!part || NAMES.some((name) => clip.value(name) !== settings[name].default)) return;
    const { region, box } = part;
    const [right, bottom] = [region.left + region.width, region.top + region.height];
    const seen = this.corners
      .map(({ x, y }) => planeSpot(clip, part, x, y))
      .every(([x, y]) => x > region.left && y > region.top && x < right && y < bottom);
    if (seen) return;
    for (const corner of CORNERS) {
      const u = corner.endsWith("left") ? INSET : 1 - INSET;
      const v = corner.startsWith("top") ? INSET : 1 - INSET;
      this.move(corner, planeAt(clip, [box.left + u * box.width, box.top + v * box.height]));
    }
  },

  none() {
    this.setting = false;
    this.$store.clip.edit((treatment) => {
      for (const name of NAMES) {
        treatment.frame[name.split(".")[1]] = settings[name].default;
        delete treatment.keys[name];
      }
      treatment.frame.square_up = false;
    });
  },

  /**
   * @param {string} corner
   * @param {[number, number]} place percent
   */
  move(corner, [x, y]) {
    const { clip } = this.$store;
    clip.put(`frame.${corner}_x`, within(`frame.${corner}_x`, round(x)));
    clip.put(`frame.${corner}_y`, within(`frame.${corner}_y`, round(y)));
  },

  /**
   * @param {string} corner
   * @param {"x" | "y"} axis
   * @param {Event} event
   */
  type(corner, axis, event) {
    const { value } = /** @type {HTMLInputElement} */ (event.target);
    const { clip } = this.$store;
    if (value === "" || Number.isNaN(Number(value))) return;
    clip.change(`frame.${corner}_${axis}`, Number(value), !this.setting);
  },

  toggleKeys() {
    const { clip } = this.$store;
    const { here } = this;
    const values = NAMES.map((name) => clip.value(name));
    clip.edit((treatment) => {
      NAMES.forEach((name, k) => {
        if (here) dropKey(treatment, name, clip.frame);
        else putKey(treatment, name, clip.frame, values[k]);
      });
    });
  },

  /**
   * @param {Pen} pen
   * @param {Part} part
   */
  draw(pen, part) {
    const { clip } = this.$store;
    if (!this.setting || !clip.ready || clip.station !== "frame" || !part.treated) return;
    const { ratio, overlay } = live.stage;
    const { corners } = this;
    const spots = corners.map(({ x, y }) => planeSpot(clip, part, x, y));
    through(pen, spots, true);
    outlined(pen, { width: 1.4, ratio });
    spots.forEach((spot, k) => {
      const { key, name } = corners[k];
      drawCorner(pen, spot, key, ratio);
      const isRight = k === 1 || k === 2; // its name lies inside the picture, too
      const x = spot[0] + (isRight ? -14 : 14) * ratio;
      const y = spot[1] + (k < 2 ? 18 : -18) * ratio;
      label(pen, name, [x, y], ratio, isRight ? "right" : "left");
      overlay.grips.push(gripAt(spot, (to) => this.move(key, planeAt(clip, to)), true));
    });
  },
}));

/**
 * A handle has the shape of the corner it is.
 * @param {Pen} pen
 * @param {Spot} spot
 * @param {string} corner
 * @param {number} ratio
 */
function drawCorner(pen, [x, y], corner, ratio) {
  const right = corner.endsWith("left") ? 1 : -1;
  const down = corner.startsWith("top") ? 1 : -1;
  pen.beginPath();
  pen.moveTo(x + right * LONG * ratio, y);
  pen.lineTo(x, y);
  pen.lineTo(x, y + down * LONG * ratio);
  outlined(pen, { width: 3.4, ratio });
}
