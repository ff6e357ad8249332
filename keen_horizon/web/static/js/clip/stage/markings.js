// What is drawn of the marks over the picture, and what a pointer finds there.
import { LIGHT, outlined } from "./ink.js";

const STRIDE = 4; // numbers a mark: share of width, share of height, what it does, its own number
const [REJECTED, STEERING, ASIDE] = [0, 1, 2];
const REACH = 30; // css px within which a pointer finds a mark
// Told apart by shape as well as by colour.
const INK = { [REJECTED]: "#FFB36B", [STEERING]: "#8CF0C0", [ASIDE]: "#B9C6FF" };

/** @typedef {{ marks: Float32Array, at?: Map<number, number> }} MarkSet */

export class Markings {
  /** @param {import("./stage.js").Stage} stage */
  constructor(stage) {
    this.stage = stage;
    /** @type {Map<number, MarkSet>} by frame of the range */
    this.sets = new Map();
    /** @type {Set<number> | null} numbers of marks that are lit */
    this.lit = null;
    /** @type {Map<number, number>} group of a mark, by its number */
    this.groupOf = new Map();
    /** @type {[number, number, number][]} the marks as drawn: x, y, number */
    this.spots = [];
  }

  clear() {
    this.sets.clear();
  }

  /**
   * @param {number} frame
   * @param {Float32Array} marks
   */
  put(frame, marks) {
    this.sets.set(frame, { marks });
  }

  /**
   * A frame's marks by their numbers.
   * @param {number} frame
   */
  set(frame) {
    const found = this.sets.get(frame);
    if (found && !found.at) {
      found.at = new Map();
      for (let i = 0; i < found.marks.length; i += STRIDE) found.at.set(found.marks[i + 3], i);
    }
    return found;
  }

  /**
   * @param {Pen} pen
   * @param {Part} part
   */
  draw(pen, part) {
    const { clock, ratio } = this.stage;
    const { at } = clock;
    const set = this.set(at);
    if (!set || clock.outside) return;
    const { dotSize, trail } = this.stage.view();
    pen.beginPath();
    pen.rect(part.box.left, part.box.top, part.box.width, part.box.height);
    pen.clip();
    if (trail) this.trails(pen, part, { at, set, trail });
    const size = (dotSize * ratio) / 2;
    for (let i = 0; i < set.marks.length; i += STRIDE) {
      const id = set.marks[i + 3];
      const spot = this.stage.place(part, [set.marks[i], set.marks[i + 1]], at);
      this.spots.push([...spot, id]);
      if (this.lit?.has(id)) this.ring(pen, spot, size + 4 * ratio);
      this.mark(pen, spot, set.marks[i + 2], size);
    }
  }

  /**
   * Where marks were in the frames before.
   * @param {Pen} pen
   * @param {Part} part
   * @param {{ at: number, set: MarkSet, trail: number }} now
   */
  trails(pen, part, { at, set, trail }) {
    const trails = [new Path2D(), new Path2D(), new Path2D()];
    /** @type {MarkSet[]} */
    const earlier = [];
    for (let back = 1; back <= trail; back += 1) {
      const found = this.set(at - back);
      if (!found) break;
      earlier.push(found);
    }
    for (let i = 0; i < set.marks.length; i += STRIDE) {
      const path = trails[set.marks[i + 2]];
      path.moveTo(...this.stage.place(part, [set.marks[i], set.marks[i + 1]], at));
      for (let back = 0; back < earlier.length; back += 1) {
        const { marks, at: found } = earlier[back];
        const k = found?.get(set.marks[i + 3]);
        if (k === undefined) break;
        path.lineTo(...this.stage.place(part, [marks[k], marks[k + 1]], at - back - 1));
      }
    }
    pen.lineWidth = this.stage.ratio;
    pen.globalAlpha = 0.75;
    trails.forEach((path, doing) => {
      pen.strokeStyle = INK[doing];
      pen.stroke(path);
    });
    pen.globalAlpha = 1;
  }

  /**
   * @param {Pen} pen
   * @param {Spot} spot
   * @param {number} radius
   */
  ring(pen, [x, y], radius) {
    pen.beginPath();
    pen.arc(x, y, radius, 0, 7);
    pen.strokeStyle = LIGHT;
    pen.lineWidth = 2 * this.stage.ratio;
    pen.stroke();
  }

  /**
   * A dot steers, a diamond strays, a cross is set aside.
   * @param {Pen} pen
   * @param {Spot} spot
   * @param {number} doing
   * @param {number} size
   */
  mark(pen, [x, y], doing, size) {
    const { ratio } = this.stage;
    pen.beginPath();
    if (doing === STEERING) {
      pen.arc(x, y, size, 0, 7);
      pen.fillStyle = INK[STEERING];
      pen.strokeStyle = "rgb(0 0 0 / .75)";
      pen.lineWidth = ratio;
      pen.fill();
      pen.stroke();
      return;
    }
    const r = size * (doing === ASIDE ? 1.4 : 1.5);
    if (doing === ASIDE) {
      pen.moveTo(x - r, y - r);
      pen.lineTo(x + r, y + r);
      pen.moveTo(x + r, y - r);
      pen.lineTo(x - r, y + r);
    } else {
      pen.moveTo(x, y - r);
      pen.lineTo(x + r, y);
      pen.lineTo(x, y + r);
      pen.lineTo(x - r, y);
      pen.closePath();
    }
    outlined(pen, { colour: INK[doing], width: 1.2, ratio });
  }

  /**
   * The number of the group under a pointer, canvas pixels; null without any.
   * @param {Spot} spot
   */
  groupNear([x, y]) {
    let best = REACH * this.stage.ratio;
    let found = null;
    for (const [px, py, id] of this.spots) {
      const away = Math.hypot(px - x, py - y);
      const group = this.groupOf.get(id);
      if (away < best && group !== undefined) [best, found] = [away, group];
    }
    return found;
  }
}
