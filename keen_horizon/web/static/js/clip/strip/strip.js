// The strip: one time axis, with the path before and after, room left, confidence and cuts.
// What it measures is written beside it; on it are the lines, and their scale in a gutter.
import { extent, secondsWords, span } from "./lines.js";
import * as marks from "./marks.js";
import { GUTTER, ROOM, SURE, TOP } from "./marks.js";

const TICKS = [0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 30, 60, 120, 300, 600, 1800]; // seconds
/** @type {Record<string, number>} least span of a component, so that noise is not drawn large */
const LEAST = { across: 4, updown: 4, roll: 0.2, size: 0.4, yaw: 0.2, pitch: 0.2, tilt: 0.2 };
const TELLING = ["across", "updown", "yaw", "pitch"]; // components that shake is seen on
/** @param {number} ratio device pixels per css px */
const fontAt = (ratio) => `${11 * ratio}px "IBM Plex Mono", monospace`;

/**
 * @typedef {object} StripData
 * @property {Record<string, Float32Array>} before by component of the path
 * @property {Record<string, Float32Array>} after
 * @property {Float32Array | null} room
 * @property {Float32Array} confidence
 * @property {Float32Array} weak
 * @property {Float32Array} blurred
 * @property {Float32Array | null} borrowed share of a frame that neighbours lend
 * @property {Float32Array | null} held how surely a held point is known
 * @property {number[]} cuts
 * @property {number[]} damaged
 * @property {number[]} keys
 * @property {Float64Array} times
 * @property {number | null} tightest
 */

export class Strip {
  /**
   * @param {HTMLCanvasElement} canvas
   * @param {HTMLElement} playhead
   * @param {{ go: (at: number) => void, moveKeys: (from: number, to: number) => void }} acts
   */
  constructor(canvas, playhead, acts) {
    this.canvas = canvas;
    this.playhead = playhead;
    this.acts = acts;
    /** @type {StripData | null} */
    this.data = null;
    this.count = 1;
    this.at = 0;
    this.ratio = 1;
    this.component = "across";
    /** @type {{ from: number, to: number } | null} keyframes that are being dragged */
    this.ghost = null;
    /** @type {[number, number] | null} frames of the range that are played over and over */
    this.loop = null;
    /** @type {Record<string, string>} */
    this.palette = {};
    /** @type {[number, number][]} where words stand along the top edge */
    this.taken = [];
    this.style = getComputedStyle(document.documentElement);
    new ResizeObserver(() => this.resize()).observe(canvas);
    this.listen();
  }

  listen() {
    const { canvas, acts } = this;
    /** @type {number | null} keyframes in hand, by their frame */
    let dragged = null;
    canvas.addEventListener("pointerdown", (event) => {
      if (event.button) return;
      canvas.setPointerCapture(event.pointerId);
      dragged = this.keyAt(event);
      acts.go(dragged ?? this.frameAt(event));
    });
    canvas.addEventListener("pointermove", (event) => {
      const to = this.frameAt(event);
      const pressed = event.buttons & 1;
      if (dragged !== null && pressed) {
        if (to !== dragged || this.ghost) this.drag({ from: dragged, to });
      } else if (pressed) acts.go(to);
      canvas.style.cursor = this.keyAt(event) === null ? "" : "ew-resize";
    });
    canvas.addEventListener("pointerup", () => {
      if (this.ghost) acts.moveKeys(this.ghost.from, this.ghost.to);
      dragged = null;
      this.drag(null);
    });
    canvas.addEventListener("pointercancel", () => {
      dragged = null;
      this.drag(null);
    });
  }

  /** @param {{ from: number, to: number } | null} ghost */
  drag(ghost) {
    if (!ghost && !this.ghost) return;
    this.ghost = ghost;
    this.draw();
  }

  resize() {
    this.ratio = window.devicePixelRatio || 1;
    this.canvas.width = Math.max(1, Math.round(this.canvas.clientWidth * this.ratio));
    this.canvas.height = Math.max(1, Math.round(this.canvas.clientHeight * this.ratio));
    this.draw();
  }

  /**
   * @param {StripData} data
   * @param {number} count frames
   */
  set(data, count) {
    this.data = data;
    this.count = count;
    if (!(this.component in data.before)) this.component = this.telling();
    this.draw();
  }

  /**
   * Keyframes are where they are set, whatever is still being solved.
   * @param {number[]} keys
   */
  showKeys(keys) {
    if (!this.data || keys.join() === this.data.keys.join()) return;
    this.data.keys = keys;
    this.draw();
  }

  /** @param {[number, number] | null} loop */
  setLoop(loop) {
    this.loop = loop;
    this.draw();
  }

  /** The component of the path on which the correction is easiest to see. */
  telling() {
    if (!this.data) return TELLING[0];
    const { before, after } = this.data;
    /** @param {string} name */
    const seen = (name) => {
      const gone = before[name].map((value, i) => value - after[name][i]);
      return span(gone) / Math.max(1e-6, span(before[name]));
    };
    const [first, second] = TELLING.filter((name) => name in before);
    return seen(second) > seen(first) ? second : first;
  }

  /** @param {string} component */
  show(component) {
    this.component = component;
    this.draw();
  }

  /**
   * The playhead moves every frame; it is an element of its own, so that nothing is drawn again.
   * @param {number} at
   */
  go(at) {
    this.at = at;
    this.playhead.style.transform = `translateX(${this.x(at) / this.ratio}px)`;
  }

  // --- places ------------------------------------------------------------------------------------

  /** @param {number} index */
  x(index) {
    const left = GUTTER * this.ratio;
    const share = this.count > 1 ? index / (this.count - 1) : 0;
    return left + share * (this.canvas.width - left);
  }

  /** @param {PointerEvent} event */
  frameAt(event) {
    const { left, width } = this.canvas.getBoundingClientRect();
    const share = (event.clientX - left - GUTTER) / (width - GUTTER);
    return Math.max(0, Math.min(this.count - 1, Math.round(share * (this.count - 1))));
  }

  get floor() {
    return this.canvas.height - (ROOM + SURE + 6) * this.ratio;
  }

  /**
   * The keyframes under a pointer, by their frame; null if there are none.
   * @param {PointerEvent} event
   */
  keyAt(event) {
    if (!this.data) return null;
    const { left, top } = this.canvas.getBoundingClientRect();
    const y = (event.clientY - top) * this.ratio;
    const x = (event.clientX - left) * this.ratio;
    if (Math.abs(y - (this.floor - 6 * this.ratio)) > 9 * this.ratio) return null;
    /** @param {number} at */
    const away = (at) => Math.abs(this.x(at) - x);
    const near = this.data.keys.filter((at) => away(at) < 7 * this.ratio);
    return near.length ? near.sort((a, b) => away(a) - away(b))[0] : null;
  }

  /**
   * Bars of a value a frame as [x, width, value]. Where frames are narrower than a pixel, the least
   * of each pixel's: that is the one to see.
   * @param {Float32Array} values
   * @returns {Generator<[number, number, number]>}
   */
  *bars(values) {
    const left = GUTTER * this.ratio;
    const wide = (this.canvas.width - left) / this.count;
    if (wide >= 1) {
      for (let i = 0; i < this.count; i++) {
        const x = Math.max(left, this.x(i - 0.5));
        yield [x, Math.min(wide + 1, this.canvas.width - x), values[i]];
      }
      return;
    }
    for (let x = 0, i = 0; left + x < this.canvas.width; x++) {
      let least = Infinity;
      const end = Math.min(this.count, Math.ceil((x + 1) / wide));
      for (; i < end; i++) least = Math.min(least, values[i]);
      if (least !== Infinity) yield [left + x, 1, least];
    }
  }

  // --- drawing -----------------------------------------------------------------------------------

  /**
   * Colours of the present light, asked for once a drawing.
   * @param {string} name
   */
  colour(name) {
    this.palette[name] ||= this.style.getPropertyValue(name).trim();
    return this.palette[name];
  }

  draw() {
    const pen = /** @type {CanvasRenderingContext2D} */ (this.canvas.getContext("2d"));
    const { width, height } = this.canvas;
    pen.clearRect(0, 0, width, height);
    if (!this.data) return;
    const r = this.ratio;
    this.style = getComputedStyle(document.documentElement);
    this.palette = {};
    this.paths(pen, TOP * r, this.floor);
    marks.room(this, pen, this.floor + 3 * r, ROOM * r);
    marks.confidence(this, pen, height);
    if (this.data.borrowed) marks.lent(this, pen, this.data.borrowed);
    if (this.data.held) marks.heldTrace(this, pen, this.data.held, height);
    marks.blurred(this, pen, height);
    marks.damaged(this, pen);
    marks.keys(this, pen);
    if (this.loop) marks.shade(this, pen, this.loop, height);
    // The first words along the top are those that matter most: others give way.
    this.taken = [];
    if (this.data.tightest !== null) marks.flag(this, pen, this.x(this.data.tightest), height);
    marks.cuts(this, pen, height);
    this.seconds(pen);
    this.go(this.at);
  }

  /**
   * Ticks at round seconds of the range, about a hundred pixels apart.
   * @param {Pen} pen
   */
  seconds(pen) {
    if (!this.data) return;
    const { times } = this.data;
    const length = times[times.length - 1] - times[0];
    if (!(length > 0)) return;
    const r = this.ratio;
    const least = (100 * r * length) / this.canvas.width;
    const step = TICKS.find((tick) => tick >= least) || 3600;
    let frame = 0;
    for (let second = step; second < length; second += step) {
      while (times[frame] - times[0] < second - 1e-6) frame += 1;
      const x = this.x(frame);
      this.line(pen, [x, 0], [x, 5 * r], "--line", 1);
      this.caption(pen, secondsWords(second), x + 4 * r, "--ink-2");
    }
  }

  /**
   * @param {Pen} pen
   * @param {number} top
   * @param {number} bottom
   */
  paths(pen, top, bottom) {
    if (!this.data) return;
    const { before, after } = this.data;
    let [low, high] = extent([before[this.component], after[this.component]]);
    const least = LEAST[this.component];
    if (high - low < least) [low, high] = [(low + high - least) / 2, (low + high + least) / 2];
    /** @param {number} value */
    const y = (value) => bottom - ((value - low) / (high - low)) * (bottom - top);
    this.contours(pen, low, high, y);
    for (const [line, colour, weight] of /** @type {[Float32Array, string, number][]} */ ([
      [before[this.component], "--strip-before", 1],
      [after[this.component], "--strip-after", 1.8],
    ])) {
      pen.beginPath();
      line.forEach((value, i) => pen.lineTo(this.x(i), y(value)));
      pen.strokeStyle = this.colour(colour);
      pen.lineWidth = weight * this.ratio;
      pen.stroke();
    }
  }

  /**
   * Depth contours: thin lines at round values, with their value in the gutter.
   * @param {Pen} pen
   * @param {number} low
   * @param {number} high
   * @param {(value: number) => number} y
   */
  contours(pen, low, high, y) {
    const r = this.ratio;
    const step = 10 ** Math.floor(Math.log10((high - low) / 2));
    const wide = (high - low) / step > 6 ? step * 5 : step;
    pen.textAlign = "right";
    for (let value = Math.ceil(low / wide) * wide; value <= high; value += wide) {
      this.line(pen, [GUTTER * r, y(value)], [this.canvas.width, y(value)], "--line", 0.6);
      const text = String(Math.round(value * 100) / 100);
      const at = Math.min(this.floor - 5 * r, Math.max(TOP * r, y(value)));
      this.label(pen, text, (GUTTER - 5) * r, at, "--ink-2");
    }
    pen.textAlign = "left";
  }

  /**
   * @param {Pen} pen
   * @param {Spot} from
   * @param {Spot} to
   * @param {string} colour
   * @param {number} width css px
   */
  line(pen, from, to, colour, width) {
    pen.strokeStyle = this.colour(colour);
    pen.lineWidth = width * this.ratio;
    pen.beginPath();
    pen.moveTo(...from);
    pen.lineTo(...to);
    pen.stroke();
  }

  /**
   * @param {Pen} pen
   * @param {string} text
   * @param {number} x
   * @param {number} y
   * @param {string} colour
   */
  label(pen, text, x, y, colour) {
    pen.font = fontAt(this.ratio);
    pen.textBaseline = "middle";
    pen.fillStyle = this.colour(colour);
    pen.fillText(text, x, y);
  }

  /**
   * A word along the top edge, unless another one is there already.
   * @param {Pen} pen
   * @param {string} text
   * @param {number} x
   * @param {string} colour
   * @param {number} [line] of which it tells, which takes room too
   */
  caption(pen, text, x, colour, line = x) {
    const r = this.ratio;
    pen.font = fontAt(r);
    const width = pen.measureText(text).width;
    const left = pen.textAlign === "right" ? x - width : x;
    const [from, to] = [left - 3 * r, left + width + 3 * r];
    const free = !this.taken.some(([a, b]) => from < b && to > a);
    this.taken.push(free ? [Math.min(from, line), Math.max(to, line)] : [line, line + 1]);
    if (free) this.label(pen, text, x, 7 * r, colour);
  }
}
