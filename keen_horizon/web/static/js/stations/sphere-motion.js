// Tools of the Motion station for spheres.
import { component } from "../lib/component.js";
import { live } from "../clip/live.js";
import { dot, outlined } from "../clip/stage/ink.js";

const PLACE = "place a point on the sphere"; // name of the tool
const DRAW = "draw the horizon";
const SHORTEST = 20; // canvas pixels of a line
const BOX = { pattern: 0.08, search: 0.08 }; // shares of the height
/** @type {[string, string][]} settings of a calm of their own, and what shares them */
const CALMS = [
  ["calm_across", "yaw"],
  ["calm_updown", "pitch"],
  ["calm_roll", "roll"],
];

/** @typedef {{ frame: number, ends: [Place, Place] }} HorizonMark */

/** @param {number} value */
const round = (value) => Math.round(value * 1e5) / 1e5;

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
    const at = /** @type {Place} */ (live.stage.sourceAt(spot).map(round));
    const { frame } = live.clock;
    this.$store.clip.edit(({ motion }) => {
      motion.hold = [{ frame, at, ...BOX, again: [] }];
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

component("sphereLock", () => ({
  get shown() {
    return this.$store.clip.isShown("motion.lock_frame");
  },

  get isFirst() {
    return this.$store.clip.value("motion.lock_frame") === null;
  },

  get words() {
    return this.isFirst
      ? "As the first frame looks."
      : `As frame ${this.$store.clip.value("motion.lock_frame")} looks.`;
  },

  here() {
    this.$store.clip.change("motion.lock_frame", this.$store.clip.frame);
  },

  first() {
    this.$store.clip.change("motion.lock_frame", null);
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
    const ends = [from, spot].map((one) => live.stage.sourceAt(one).map(round));
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

component("sphereCalm", () => ({
  get shown() {
    return this.$store.clip.treatment?.motion.aim === "follow";
  },

  get linked() {
    const motion = this.$store.clip.treatment?.motion;
    return CALMS.every(([name]) => (motion?.[name] ?? null) === null);
  },

  get linkWords() {
    return this.linked ? "Unlink" : "Link";
  },

  /** Each on its own; or together again, at the calm that all had before they were parted. */
  turnLink() {
    const { linked } = this;
    this.$store.clip.edit(({ motion }) => {
      for (const [name] of CALMS) motion[name] = linked ? motion.calm : null;
    });
  },
}));
