// Tools of the Motion station for spheres.
import { component } from "../lib/component.js";
import { live } from "../clip/live.js";
import { placeAt, pointAt } from "../clip/stage/held-point.js";
import { dot, outlined } from "../clip/stage/ink.js";
import "./motion/calm.js";
import "./motion/lock.js";

const PLACE = "place a point on the sphere"; // name of the tool
const DRAW = "draw the horizon";
const SHORTEST = 20; // canvas pixels of a line
/** @typedef {{ frame: number, ends: [Place, Place] }} HorizonMark */

component("sphereHold", () => ({
  init() {
    if (!live.pointer) return;
    live.pointer.add(PLACE, {
      up: (spot) => {
        this.$store.clip.endTool();
        this.place(spot);
      },
    });
    live.stage.overlay.extras.push((pen, part) => this.draw(pen, part));
  },

  get shown() {
    return this.$store.clip.isShown("motion.hold");
  },

  /** The one point that is held. */
  get point() {
    return this.$store.clip.treatment?.motion.hold[0] ?? null;
  },

  get placed() {
    return Boolean(this.point);
  },

  get placing() {
    return this.$store.clip.tool === PLACE;
  },

  get placeWords() {
    return this.placed ? "Place it anew" : "Place a point";
  },

  get words() {
    if (this.placing) return "Click a corner or a spot with contrast.";
    return this.point ? `Placed at frame ${this.point.frame}.` : "";
  },

  want() {
    this.$store.clip.useTool(PLACE);
  },

  /** @param {Spot} spot */
  place(spot) {
    const point = pointAt(spot);
    this.$store.clip.edit(({ motion }) => {
      motion.hold = [point];
    });
  },

  drop() {
    this.$store.clip.edit(({ motion }) => {
      motion.hold = [];
    });
  },

  /**
   * A ring about the point, in the frame that it was placed in.
   * @param {Pen} pen
   * @param {Part} part
   */
  draw(pen, part) {
    const { clip } = this.$store;
    const { point } = this;
    if (!point || !this.shown || clip.station !== "motion") return;
    if (point.frame !== live.clock.frame) return;
    const { ratio } = live.stage;
    const [x, y] = live.stage.place(part, point.at);
    pen.beginPath();
    pen.arc(x, y, 9 * ratio, 0, 7);
    outlined(pen, { width: 1.6, ratio });
  },
}));

component("sphereLevel", () => ({
  /** @type {Spot | null} where the line begins that is being drawn */
  from: null,
  /** @type {Spot | null} */
  to: null,

  init() {
    if (!live.pointer) return;
    live.pointer.add(DRAW, {
      down: (spot) => {
        this.from = this.to = spot;
      },
      move: (spot) => {
        this.to = spot;
        live.stage.drawOver();
      },
      up: (spot) => this.drawn(spot),
      cancel: () => {
        this.from = this.to = null;
        live.stage.drawOver();
      },
    });
    live.stage.overlay.extras.push((pen, part) => this.draw(pen, part));
  },

  get words() {
    return this.$store.clip.answer?.stations.motion.details.level ?? "";
  },

  /** Whether the horizon is told by being drawn. */
  get draws() {
    return this.$store.clip.isShown("motion.horizon");
  },

  get drawing() {
    return this.$store.clip.tool === DRAW;
  },

  get hint() {
    if (!this.drawing) return "";
    return "Drag from one place on the horizon to another, a quarter of the way around or more.";
  },

  get marks() {
    const marks = this.$store.clip.treatment?.motion.horizon ?? [];
    return marks.map((/** @type {HorizonMark} */ { frame }, /** @type {number} */ index) => ({
      key: `${frame} ${index}`,
      index,
      frame,
      words: `Frame ${frame}`,
    }));
  },

  want() {
    this.$store.clip.useTool(DRAW);
  },

  /** @param {number} frame */
  go(frame) {
    this.$store.clip.go(frame);
  },

  /** @param {number} index */
  drop(index) {
    this.$store.clip.edit(({ motion }) => motion.horizon.splice(index, 1));
  },

  /** @param {Spot} spot */
  drawn(spot) {
    const { from } = this;
    this.from = this.to = null;
    if (!from || Math.hypot(spot[0] - from[0], spot[1] - from[1]) < SHORTEST) return;
    const { frame } = live.clock;
    const ends = [from, spot].map(placeAt);
    this.$store.clip.endTool();
    this.$store.clip.edit(({ motion }) => motion.horizon.push({ frame, ends }));
  },

  /**
   * The line in hand, and those of this frame.
   * @param {Pen} pen
   * @param {Part} part
   */
  draw(pen, part) {
    const { clip } = this.$store;
    if (clip.station !== "motion" || !this.draws) return;
    const { ratio } = live.stage;
    if (this.from && this.to) {
      pen.beginPath();
      pen.moveTo(...this.from);
      pen.lineTo(...this.to);
      outlined(pen, { width: 2, ratio });
    }
    const marks = clip.treatment?.motion.horizon ?? [];
    for (const { frame, ends } of /** @type {HorizonMark[]} */ (marks)) {
      if (frame !== live.clock.frame) continue;
      for (const end of ends) dot(pen, live.stage.place(part, end), 4, ratio);
    }
  },
}));
