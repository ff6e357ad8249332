// Holding points: placing them, seeing them followed, where they are held.
import { unpack } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { live } from "../../clip/live.js";
import { pointAt } from "../../clip/stage/held-point.js";
import { LIGHT, outlined } from "../../clip/stage/ink.js";

const MOST = 4; // points
const NEW = "place a point";
const AT = "hold it at";
/** @param {number} index of a point that is placed again */
const again = (index) => `place point ${index + 1}`;

/** @param {number} value */
const round = (value) => Math.round(value * 1e5) / 1e5;

component("holdTools", () => ({
  /** @type {Float32Array | null} where points are: points x frames x 2, shares of the source */
  places: null,

  init() {
    const { clip } = this.$store;
    const { pointer } = live;
    if (!pointer) return;
    pointer.add(NEW, this.placing(null));
    for (let index = 0; index < MOST; index++) pointer.add(again(index), this.placing(index));
    pointer.add(AT, {
      down: (spot) => this.holdAt(spot, false),
      move: (spot) => this.holdAt(spot, false),
      up: (spot) => {
        clip.endTool();
        this.holdAt(spot, true);
      },
    });
    live.stage.overlay.extras.push((pen, part) => this.draw(pen, part));
    window.Alpine.effect(() => {
      const places = clip.answer?.whole && clip.answer.strip.places;
      this.places = places ? unpack(places) : null;
      live.stage.drawOver();
    });
  },

  get points() {
    const points = this.$store.clip.treatment?.motion.hold ?? [];
    return points.map((point, index) => ({
      index,
      words: `Point ${index + 1} · placed at ${[point, ...point.again].map((p) => p.frame).join(", ")}`,
      pattern: Math.round(point.pattern * 1000) / 10,
      search: Math.round(point.search * 1000) / 10,
    }));
  },

  get shown() {
    return this.$store.clip.isShown("motion.hold");
  },

  get mayAdd() {
    return this.points.length < MOST;
  },

  get words() {
    const hold = this.$store.clip.answer?.report.hold;
    return hold ? `known in ${hold.known_frames} frames, strays ${hold.strays.toFixed(2)} px` : "";
  },

  get furthest() {
    const hold = this.$store.clip.answer?.report.hold;
    return hold ? `Furthest off: frame ${hold.furthest_frame}, ${hold.furthest.toFixed(0)} px` : "";
  },

  get hint() {
    const { tool } = this.$store.clip;
    if (tool === NEW) return "Click a corner or a spot with contrast.";
    if (tool === AT) return "Drag to where the point is to be held.";
    return tool.startsWith("place point") ? "Click where the point is in this frame." : "";
  },

  wantNew() {
    this.$store.clip.useTool(NEW);
  },

  wantAt() {
    this.$store.clip.useTool(AT);
  },

  /** @param {number} index */
  wantAgain(index) {
    this.$store.clip.useTool(again(index));
  },

  /** @param {number} index */
  isPlacing(index) {
    return this.$store.clip.tool === again(index);
  },

  /**
   * @param {number | null} index of the point that is placed again; null: a new one
   * @returns {Tool}
   */
  placing(index) {
    return {
      up: (spot) => {
        this.$store.clip.endTool();
        this.place(index, spot);
      },
    };
  },

  /**
   * @param {number | null} index
   * @param {Spot} spot
   */
  place(index, spot) {
    const placed = pointAt(spot);
    const { frame, at } = placed;
    this.$store.clip.edit(({ motion }) => {
      if (index === null) {
        motion.hold.push(placed);
        return;
      }
      const point = motion.hold[index];
      if (point.frame === frame) point.at = at;
      else {
        const others = point.again.filter((one) => one.frame !== frame);
        point.again = [...others, { frame, at }].sort((a, b) => a.frame - b.frame);
      }
    });
  },

  /**
   * Where the output is to show the first point, before the zoom: the picture follows the drag.
   * @param {Spot} spot
   * @param {boolean} settled
   */
  holdAt([x, y], settled) {
    const { clip } = this.$store;
    const { box } = live.stage.partAt([x, y]);
    const zoom = clip.answer?.report.zoom ?? 1;
    /** @param {number} value */
    const share = (value) => round(Math.max(0, Math.min(1, 0.5 + (value - 0.5) / zoom)));
    clip.edit(({ motion }) => {
      motion.hold_at = [share((x - box.left) / box.width), share((y - box.top) / box.height)];
    }, settled);
  },

  free() {
    this.$store.clip.change("motion.hold_at", null);
  },

  /** @param {number} index */
  drop(index) {
    this.$store.clip.edit(({ motion }) => motion.hold.splice(index, 1));
  },

  /**
   * @param {number} index
   * @param {"pattern" | "search"} name
   * @param {Event} event
   */
  size(index, name, event) {
    const percent = Number(/** @type {HTMLInputElement} */ (event.target).value);
    this.$store.clip.edit(({ motion }) => {
      motion.hold[index][name] = percent / 100;
    });
  },

  goFurthest() {
    const hold = this.$store.clip.answer?.report.hold;
    if (hold) this.$store.clip.go(hold.furthest_frame);
  },

  /**
   * The boxes of the points on the picture.
   * @param {Pen} pen
   * @param {Part} part
   */
  draw(pen, part) {
    const { clip } = this.$store;
    if (!clip.treatment || !this.shown || clip.station !== "motion") return;
    const { hold } = clip.treatment.motion;
    const { ratio } = live.stage;
    const scale = part.box.height * (part.treated ? (clip.answer?.report.zoom ?? 1) : 1);
    hold.forEach((point, k) => {
      const at = this.placeOf(point, k, live.clock.at);
      if (!at) return;
      const [x, y] = live.stage.place(part, at);
      for (const [side, dash] of /** @type {[number, number[]][]} */ ([
        [point.pattern, []],
        [point.pattern + point.search, [5, 4]],
      ])) {
        const half = (side * scale) / 2;
        pen.beginPath();
        pen.rect(x - half, y - half, 2 * half, 2 * half);
        outlined(pen, { width: 1.4, ratio, dash });
      }
      pen.beginPath();
      pen.arc(x, y, 2.5 * ratio, 0, 7);
      pen.fillStyle = LIGHT;
      pen.fill();
    });
  },

  /**
   * Where a point is in a frame of the range: where it was placed there, or as it was followed.
   * @param {HeldPoint} point
   * @param {number} k
   * @param {number} at
   * @returns {Place | null}
   */
  placeOf(point, k, at) {
    const placed = [point, ...point.again].find((one) => one.frame === live.clock.frame);
    if (placed) return placed.at;
    const index = 2 * (k * this.$store.clip.count + at);
    const x = this.places?.[index] ?? NaN;
    const y = this.places?.[index + 1] ?? NaN;
    return Number.isFinite(x) ? [x, y] : null;
  },
}));
