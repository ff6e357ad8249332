// Tools of the View station: the flat camera inside a sphere is turned by dragging, opened and
// closed by the wheel; where it looks is drawn on the sphere.
import { component } from "../lib/component.js";
import { live } from "../clip/live.js";
import { radians, wayOf } from "../clip/stage/around.js";
import { settings } from "../clip/settings.js";
import { pointAt } from "../clip/stage/held-point.js";
import { drawCurve } from "../clip/stage/sphere-marks.js";

const FOLLOW = "follow with the view"; // name of the tool
const STEPS = 24; // along each side of the outline
const LEAST = 0.2; // of the cosine of the height that a view looks at
const QUIET = 300; // ms without the wheel, after which an angle is kept
/** @type {[number, number, number, number][]} sides of a picture: from, and how far */
const SIDES = [
  [0, 0, 1, 0],
  [1, 0, 0, 1],
  [1, 1, -1, 0],
  [0, 1, 0, -1],
];

/** @param {number} value */
const round = (value) => Math.round(value * 100) / 100;
/** @param {number} degrees */
const wrapped = (degrees) => ((((degrees + 180) % 360) + 360) % 360) - 180;

/** @typedef {import("../clip/stage/around.js").Around} Around */
/** @param {Part} part */
const around = (part) => /** @type {Around} */ (part.lattice);

component("viewTools", () => ({
  /** @type {{ spot: Spot, yaw: number, pitch: number, roll: number } | null} a drag's beginning */
  from: null,
  timer: 0,

  init() {
    if (!live.pointer) return;
    live.pointer.free = {
      takes: (spot) => this.takes(spot),
      down: (spot) => this.hold(spot),
      move: (spot) => this.turn(spot, false),
      up: (spot) => {
        this.turn(spot, true);
        this.from = null;
      },
      cancel: () => {
        this.from = null;
      },
      wheel: (spot, factor) => this.wheel(spot, factor),
    };
    live.stage.overlay.extras.push((pen, part) => this.draw(pen, part));
  },

  get isOn() {
    return Boolean(this.$store.clip.treatment?.view.on);
  },

  get words() {
    if (!this.isOn) return "Off: a sphere comes out. Switch it on to take a flat picture out.";
    if (this.$store.clip.treatment?.view.follow) return "";
    return "Drag on the picture to look around; the wheel opens and closes the angle.";
  },

  /** Whether the hand turns the view: with these tools open, on what is treated. @param {Spot} spot */
  takes(spot) {
    const { clip } = this.$store;
    const free = clip.ready && this.isOn && !clip.treatment?.view.follow;
    return free && clip.station === "view" && live.stage.partAt(spot).treated;
  },

  /** @param {Spot} spot */
  hold(spot) {
    const { clip } = this.$store;
    // Where it looks changes over the clip: what is dragged is the frame on show, not many of them.
    if (clip.isKeyed("view.yaw") || clip.isKeyed("view.pitch")) live.clock.pause();
    const [yaw, pitch, roll] = ["yaw", "pitch", "roll"].map((name) => clip.value(`view.${name}`));
    this.from = { spot, yaw, pitch, roll };
  },

  /**
   * A flat picture is dragged along; on the sphere, the outline goes where the pointer is.
   * @param {Spot} spot
   * @param {boolean} settled
   */
  turn(spot, settled) {
    const { from } = this;
    if (!from) return;
    const part = live.stage.partAt(from.spot);
    const lattice = around(part);
    if (lattice.isWhole(live.clock.at)) {
      const u = (spot[0] - part.box.left) / part.box.width;
      const v = (spot[1] - part.box.top) / part.box.height;
      const { yaw, pitch } = wayOf(lattice.steadiedAt(live.clock.at, u, v));
      this.look({ yaw, pitch }, settled);
      return;
    }
    const unit = degreesOfPixel(part, lattice, live.clock.at);
    const [dx, dy] = [0, 1].map((k) => (spot[k] - from.spot[k]) * unit);
    // A view that leans is dragged along its own sides; one that looks up or down turns farther.
    const [sin, cos] = [Math.sin(radians(from.roll)), Math.cos(radians(from.roll))];
    const across = (cos * dx - sin * dy) / Math.max(LEAST, Math.cos(radians(from.pitch)));
    this.look({ yaw: from.yaw - across, pitch: from.pitch + sin * dx + cos * dy }, settled);
  },

  /**
   * @param {{ yaw: number, pitch: number }} way
   * @param {boolean} settled
   */
  look({ yaw, pitch }, settled) {
    const { clip } = this.$store;
    clip.put("view.yaw", round(wrapped(yaw)));
    clip.put("view.pitch", round(Math.max(-90, Math.min(90, pitch))));
    live.stage.draw(); // before the server has worked out what it costs
    clip.solve(settled);
  },

  /**
   * @param {Spot} spot
   * @param {number} factor by which things become larger
   */
  wheel(spot, factor) {
    if (!this.takes(spot)) return false;
    const { clip } = this.$store;
    const { low } = settings["view.angle"];
    const most = clip.answer?.sphere?.view.widest ?? Infinity;
    const angle = clip.value("view.angle") / Math.sqrt(factor);
    clip.put("view.angle", Math.round(2 * Math.max(low ?? 5, Math.min(most, angle))) / 2);
    live.stage.draw();
    clip.solve(false);
    clearTimeout(this.timer);
    this.timer = window.setTimeout(() => clip.solve(true), QUIET);
    return true;
  },

  /**
   * Where the flat camera looks, on the sphere.
   * @param {Pen} pen
   * @param {Part} part
   */
  draw(pen, part) {
    const { sphere, lattice, ratio } = live.stage;
    const { at } = live.clock;
    if (!sphere || part.lattice !== sphere.lattice) return;
    const flat = /** @type {Around} */ (lattice);
    const rays = SIDES.flatMap(([x, y, dx, dy]) =>
      Array.from({ length: STEPS }, (_, k) =>
        flat.steadiedAt(at, x + (dx * k) / STEPS, y + (dy * k) / STEPS),
      ),
    );
    drawCurve(pen, part, [...rays, rays[0]], { at, ratio, width: 2 });
    drawCurve(pen, part, cross(flat, at), { at, ratio, width: 2 });
  },
}));

/**
 * By how many degrees the middle of a flat picture turns for a canvas pixel.
 * @param {Part} part
 * @param {Around} flat
 * @param {number} at
 */
function degreesOfPixel(part, flat, at) {
  const step = 0.5 / part.box.width;
  const [a, b] = [0.5 - step, 0.5 + step].map((u) => flat.steadiedAt(at, u, 0.5));
  const cosine = (a[0] * b[0] + a[1] * b[1] + a[2] * b[2]) / Math.hypot(...a) / Math.hypot(...b);
  return (Math.acos(Math.min(1, cosine)) * 180) / Math.PI;
}

/**
 * A short line upwards from the middle of the picture, so that its roll is seen.
 * @param {Around} flat
 * @param {number} at
 */
const cross = (flat, at) => [0.5, 0.47, 0.44, 0.4].map((v) => flat.steadiedAt(at, 0.5, v));

component("viewFollow", () => ({
  init() {
    live.pointer?.add(FOLLOW, {
      up: (spot) => {
        this.$store.clip.endTool();
        this.follow(spot);
      },
    });
  },

  get point() {
    return this.$store.clip.treatment?.view.follow ?? null;
  },

  get follows() {
    return Boolean(this.point);
  },

  get placing() {
    return this.$store.clip.tool === FOLLOW;
  },

  get wantWords() {
    return this.follows ? "Follow another" : "Follow something";
  },

  get words() {
    if (this.placing) return "Click what the view is to follow.";
    return this.point ? `Follows what was clicked at frame ${this.point.frame}.` : "";
  },

  want() {
    this.$store.clip.useTool(FOLLOW);
  },

  /** @param {Spot} spot */
  follow(spot) {
    const follow = pointAt(spot);
    this.$store.clip.edit(({ view }) => Object.assign(view, { on: true, follow }));
  },

  /** On from where it looks now. */
  leave() {
    const { clip } = this.$store;
    const [yaw, pitch] = ["yaw", "pitch"].map((name) => round(live.stage.looks(name)));
    clip.edit(({ view }) => Object.assign(view, { follow: null, yaw, pitch }));
  },
}));

component("viewSize", () => ({
  /**
   * An output of this shape, with as many pixels as it has.
   * @param {number} wide
   * @param {number} high
   */
  shape(wide, high) {
    this.$store.clip.edit(({ view }) => {
      const unit = Math.sqrt((view.width * view.height) / (wide * high));
      view.width = Math.round((unit * wide) / 2) * 2;
      view.height = Math.round((unit * high) / 2) * 2;
    });
  },
}));
