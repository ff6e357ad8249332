// The lens by its angle of view: a dial, and the shape of the picture it was told for.
import { get } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { drawn } from "../../lib/svg.js";
import { adoptLens } from "./adopt.js";

const LOW = 40; // degrees from corner to corner that the dial begins with
const [TICK, MARK] = [5, 30]; // degrees from tick to tick, from one that is named to the next
const [X, Y, RADIUS] = [120, 122, 92];
const [WIDTH, HEIGHT] = [240, 134];
const START = 100; // degrees, for the keys where nothing is set yet
/** @type {Record<string, number>} */
const KEYS = {
  ArrowRight: 1,
  ArrowUp: 1,
  ArrowLeft: -1,
  ArrowDown: -1,
  PageUp: 10,
  PageDown: -10,
};

component("lensDial", (/** @type {number} */ high) => ({
  /** @type {number | null} degrees from corner to corner */
  angle: null,
  shape: "this", // of the picture that the angle was told for
  turnedHere: false, // whether it was this dial that gave the lens
  /** @type {{ degrees: number, settled: boolean } | null} */
  wish: null,
  asking: false,
  /** @type {SVGElement | null} */
  hand: null,
  /** @type {SVGElement | null} */
  read: null,

  init() {
    this.drawScale();
    const { clip } = this.$store;
    window.Alpine.effect(() => {
      const told = clip.answer?.report.lens;
      if (clip.answer && !this.asking) this.show(told ? told.bent.diagonal : null);
    });
  },

  /**
   * This picture's angle; one that was told for another shape stays as told.
   * @param {number | null} diagonal
   */
  show(diagonal) {
    if (diagonal === null || this.shape === "this" || !this.turnedHere) this.angle = diagonal;
    this.drawHand();
  },

  /**
   * Where an angle is on the dial.
   * @param {number} degrees
   * @param {number} radius
   */
  onDial(degrees, radius) {
    const turn = Math.PI * (1 - (degrees - LOW) / (high - LOW));
    return [X + radius * Math.cos(turn), Y - radius * Math.sin(turn)];
  },

  /** @param {number} degrees */
  within(degrees) {
    return Math.max(LOW, Math.min(high, degrees));
  },

  drawScale() {
    const { dial } = this.$refs;
    const [from, to] = [this.onDial(LOW, RADIUS).join(" "), this.onDial(high, RADIUS).join(" ")];
    const d = `M${from}A${RADIUS} ${RADIUS} 0 0 1 ${to}`;
    dial.append(drawn("path", { class: "dial-arc", d }));
    for (let at = Math.ceil(LOW / TICK) * TICK; at <= high; at += TICK) {
      const named = at % MARK === 0;
      const [x1, y1] = this.onDial(at, RADIUS - (named ? 10 : 4));
      const [x2, y2] = this.onDial(at, RADIUS);
      dial.append(drawn("line", { class: named ? "dial-mark" : "dial-tick", x1, y1, x2, y2 }));
      if (!named) continue;
      const [x, y] = this.onDial(at, RADIUS + 13);
      dial.append(drawn("text", { x, y: y + 3, "text-anchor": "middle" }, `${at}°`));
    }
    this.hand = drawn("line", { class: "dial-hand", x1: X, y1: Y });
    this.read = drawn("text", { class: "dial-read", x: X, y: Y - 24, "text-anchor": "middle" });
    dial.append(this.hand, drawn("circle", { class: "dial-hub", cx: X, cy: Y, r: 4 }), this.read);
    this.drawHand();
  },

  drawHand() {
    const { hand, read, angle } = this;
    if (!hand || !read) return;
    const [x2, y2] = this.onDial(this.within(angle ?? LOW), RADIUS - 14);
    hand.setAttribute("x2", String(x2));
    hand.setAttribute("y2", String(y2));
    hand.setAttribute("visibility", angle ? "visible" : "hidden");
    read.textContent = angle ? `${Math.round(angle * 10) / 10}°` : "turn the hand";
  },

  get spoken() {
    return this.angle ? `${Math.round(this.angle)} degrees` : "not known";
  },

  /** @param {PointerEvent} event */
  degreesAt(event) {
    const box = this.$refs.dial.getBoundingClientRect();
    const x = ((event.clientX - box.left) / box.width) * WIDTH - X;
    const y = Y - ((event.clientY - box.top) / box.height) * HEIGHT;
    const round = Math.atan2(y, x);
    const turn = Math.max(0, Math.min(Math.PI, round < -Math.PI / 2 ? Math.PI : round));
    return Math.round(2 * (LOW + (1 - turn / Math.PI) * (high - LOW))) / 2;
  },

  /** @param {PointerEvent} event */
  hold(event) {
    if (event.button) return;
    this.$refs.dial.setPointerCapture(event.pointerId);
    this.turn(this.degreesAt(event), false);
  },

  /** @param {PointerEvent} event */
  drag(event) {
    if (this.$refs.dial.hasPointerCapture(event.pointerId)) this.turn(this.degreesAt(event), false);
  },

  /** @param {PointerEvent} event */
  drop(event) {
    if (!event.button) this.turn(this.degreesAt(event), true);
  },

  /** @param {KeyboardEvent} event */
  key(event) {
    const step = KEYS[event.key];
    if (!step) return;
    event.preventDefault();
    event.stopPropagation();
    this.turn(this.within(Math.round(this.angle ?? START) + step), true);
  },

  /** @param {string} shape */
  is(shape) {
    return this.shape === shape;
  },

  /** @param {string} shape */
  tab(shape) {
    return this.is(shape) ? 0 : -1;
  },

  /** @param {string} shape */
  tellFor(shape) {
    this.shape = shape;
    if (this.angle) this.turn(this.angle, true);
  },

  /**
   * One question at a time; only the newest wish is kept.
   * @param {number} degrees
   * @param {boolean} settled
   */
  async turn(degrees, settled) {
    const { clip } = this.$store;
    this.angle = degrees;
    this.turnedHere = true;
    this.drawHand();
    this.wish = { degrees, settled };
    if (this.asking) return;
    this.asking = true;
    while (this.wish) {
      const wish = this.wish;
      this.wish = null;
      await clip.guard(async () => {
        const shape = encodeURIComponent(this.shape);
        const address = `${clip.base}/lens/angle?degrees=${wish.degrees}&shape=${shape}`;
        const { settings } = await get(address);
        adoptLens(clip, settings, wish.settled);
      });
    }
    this.asking = false;
  },
}));
