// Straight edges: traced, proposed, and the lens they speak for.
import { post } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { live } from "../../clip/live.js";
import { putKey } from "../../clip/treatment.js";
import { LIGHT, dot, label, outlined, through } from "../../clip/stage/ink.js";
import { adoptLens } from "./adopt.js";
import { apart, roundedPins, withPin } from "./pins.js";

const TRACE = "trace an edge";
const NEAR = 9; // css px within which a pointer takes hold of a trace
const SOON = 350; // ms that the playhead rests before its picture is decoded
const [PROPOSED, CONTRADICTS] = ["#9FD8FF", "#FF8A5C"];

/**
 * @typedef {object} EdgeFit
 * @property {Record<string, any>} settings
 * @property {number[]} residuals
 * @property {number[]} contradicting
 * @property {string[]} words
 * @property {{ frame: number, turn: number }[]} levels
 */

component("lensEdges", () => ({
  words: "", // what is going on
  /** @type {Place[]} */
  pins: [],
  looking: false,
  /** @type {{ frame: number, points: Place[] }[] | null} */
  proposals: null,
  /** @type {EdgeFit | null} */
  fit: null,
  model: "",
  lit: "", // edge that is lit
  timer: 0,
  recalling: false,
  /** @type {{ index: number, pins: Place[], settled: boolean } | null} */
  wish: null,
  bending: false,

  init() {
    if (!live.pointer) return;
    live.pointer.add(TRACE, {
      up: (spot) => this.placePin(spot),
      cancel: () => {
        this.pins = [];
        this.words = "";
      },
    });
    live.stage.overlay.extras.push((pen, part) => this.draw(pen, part));
    const { clip } = this.$store;
    window.Alpine.effect(() => {
      if (this.isOn && !clip.playing && clip.frame >= 0) this.watch();
      live.stage.drawOver();
    });
    window.Alpine.effect(() => {
      if (this.isOn && this.edges.length) this.recall();
    });
  },

  get edges() {
    return this.$store.clip.treatment?.lens.edges ?? [];
  },

  /** Whether these tools are open. */
  get isOn() {
    const { clip } = this.$store;
    return clip.ready && clip.station === "lens" && clip.tabs.lens === "edges";
  },

  get isTracing() {
    return this.$store.clip.tool === TRACE;
  },

  /** The picture on show is decoded for tracing before it is asked for. */
  watch() {
    clearTimeout(this.timer);
    this.timer = window.setTimeout(() => {
      if (this.isOn && !live.clock.playing) this.$store.clip.lookAt(live.clock.frame);
    }, SOON);
  },

  // --- tracing -----------------------------------------------------------------------------------

  wantTrace() {
    const { clip } = this.$store;
    this.pins = [];
    clip.useTool(TRACE);
    this.words = this.isTracing ? "Click near one end of the edge." : "";
  },

  /** @param {Spot} spot */
  async placePin(spot) {
    this.pins = [...this.pins, live.stage.sourceAt(spot)];
    this.words = "Now near its other end.";
    live.stage.drawOver();
    if (this.pins.length < 2) return;
    const { pins } = this;
    const { frame } = live.clock;
    this.pins = [];
    this.words = "Following the edge …";
    const points = await this.trace(frame, pins);
    this.words = "";
    if (!points) return;
    this.edges.push({ frame, points, pins: roundedPins(pins), runs: "any" });
    await this.refit();
    if (this.isTracing) this.words = "Click near one end of the next edge, or press Esc.";
  },

  /**
   * @param {number} frame
   * @param {Place[]} pins
   * @returns {Promise<Place[] | null>}
   */
  async trace(frame, pins) {
    const { clip } = this.$store;
    if (!(await clip.lookAt(frame))) return null;
    const answer = await clip.guard(() => post(`${clip.base}/lens/trace`, { frame, pins }));
    return answer?.there ? answer.points : null;
  },

  // --- the lens ----------------------------------------------------------------------------------

  /** @param {boolean} [dragged] an edge is in hand: the model stays, and nothing is kept */
  async refit(dragged = false) {
    const { clip } = this.$store;
    if (!this.edges.length) {
      this.fit = null;
      await clip.solve(true);
      return;
    }
    if (!dragged) this.words = "Fitting a lens to the edges …";
    const found = await this.ask(dragged);
    if (!dragged) this.words = "";
    if (found) adoptLens(clip, found.settings, !dragged);
  },

  /**
   * @param {boolean} dragged
   * @returns {Promise<EdgeFit | null>}
   */
  async ask(dragged) {
    const { clip } = this.$store;
    const model = clip.treatment?.lens.model;
    /** @type {Record<string, any>} */
    const asked = { edges: this.edges, model: this.model || null };
    if (dragged && model !== "rectilinear") asked.live = model;
    const found = await clip.guard(() => post(`${clip.base}/lens/fit`, asked));
    if (found) this.fit = found;
    live.stage.drawOver();
    return found;
  },

  /** Residuals are not kept: they are found again when the tools are opened. */
  async recall() {
    if (this.fit || this.recalling) return;
    this.recalling = true;
    await this.ask(false);
    this.recalling = false;
  },

  /** The fit, as long as it is that of these edges. */
  get fitted() {
    return this.fit && this.fit.residuals.length === this.edges.length ? this.fit : null;
  },

  get list() {
    const { fitted } = this;
    return this.edges.map((edge, index) => ({
      index,
      light: `edge ${index}`,
      name: `${index + 1}`,
      left: fitted ? `${fitted.residuals[index].toFixed(2)} px` : "",
      bad: fitted?.contradicting.includes(index) ? "is-bad" : "",
      when: `frame ${edge.frame}`,
      runs: edge.runs,
    }));
  },

  get fitWords() {
    return this.fitted?.words ?? [];
  },

  get levelWords() {
    const turns = (this.fitted?.levels ?? []).map((one) => `${one.turn.toFixed(2)}°`);
    return turns.length ? `Turns the picture by ${turns.join(", ")}.` : "";
  },

  level() {
    const levels = this.fitted?.levels ?? [];
    const { clip } = this.$store;
    clip.edit((treatment) => {
      const keyed = levels.length > 1 || clip.isKeyed("frame.turn");
      for (const { frame, turn } of levels) {
        if (keyed) putKey(treatment, "frame.turn", frame, turn);
        else treatment.frame.turn = turn;
      }
    });
  },

  /** @param {string} name */
  light(name) {
    this.lit = name;
    live.stage.drawOver();
  },

  /** @param {number} index */
  go(index) {
    this.$store.clip.go(this.edges[index].frame);
  },

  /** @param {number} index */
  drop(index) {
    this.edges.splice(index, 1);
    this.fit = null;
    return this.refit();
  },

  /**
   * @param {number} index
   * @param {Event} event
   */
  run(index, event) {
    const { value } = /** @type {HTMLSelectElement} */ (event.target);
    this.edges[index].runs = /** @type {Edge["runs"]} */ (value);
    return this.refit();
  },

  // --- proposals -----------------------------------------------------------------------------------

  async propose() {
    if (this.proposals) {
      this.proposals = null;
      this.words = "";
      live.stage.drawOver();
      return;
    }
    const { clip } = this.$store;
    live.clock.pause();
    const { frame } = live.clock;
    this.looking = true;
    this.words = "Looking for long edges in this picture …";
    const answer = await clip.lookAt(frame);
    this.looking = false;
    this.words = "";
    if (!answer) return;
    this.proposals = answer.edges.map((points) => ({ frame, points }));
    if (!answer.edges.length) {
      this.words =
        "No long edge was found in this picture. Trace one by hand, or try another frame.";
    }
    live.stage.drawOver();
  },

  get proposed() {
    return (this.proposals ?? []).map((_, index) => ({
      index,
      light: `proposal ${index}`,
      words: `Edge ${String.fromCharCode(65 + index)}`,
    }));
  },

  /** @param {number} index */
  takeProposal(index) {
    const [proposal] = this.proposals?.splice(index, 1) ?? [];
    if (!proposal) return;
    const { frame, points } = proposal;
    const pins = [points[0], points[points.length - 1]];
    this.edges.push({ frame, points, pins, runs: "any" });
  },

  /** @param {number} index */
  accept(index) {
    this.takeProposal(index);
    return this.refit();
  },

  acceptAll() {
    while (this.proposals?.length) this.takeProposal(0);
    this.proposals = null;
    return this.refit();
  },

  /** @param {number} index */
  refuse(index) {
    this.proposals?.splice(index, 1);
    live.stage.drawOver();
  },

  // --- on the picture ------------------------------------------------------------------------------

  /**
   * A trace goes through where it is dragged to.
   * @param {number} index
   * @param {Place[]} pins as they were when it was taken hold of
   * @param {Spot} spot
   * @param {boolean} settled
   */
  async bend(index, pins, spot, settled) {
    this.wish = { index, pins: withPin(pins, live.stage.sourceAt(spot)), settled };
    if (this.bending) return;
    this.bending = true;
    while (this.wish) {
      const wish = this.wish;
      this.wish = null;
      const edge = this.edges[wish.index];
      const points = edge && (await this.trace(edge.frame, wish.pins));
      if (points) {
        Object.assign(this.edges[wish.index], { points, pins: roundedPins(wish.pins) });
        await this.refit(!wish.settled);
      }
    }
    this.bending = false;
  },

  /**
   * @param {Pen} pen
   * @param {Part} part
   */
  draw(pen, part) {
    if (!this.isOn) return;
    const { frame } = live.clock;
    const { ratio } = live.stage;
    (this.proposals ?? []).forEach((edge, index) => {
      if (edge.frame !== frame) return;
      const width = this.lit === `proposal ${index}` ? 3.4 : 1.8;
      const name = String.fromCharCode(65 + index);
      this.drawEdge(pen, part, edge.points, { colour: PROPOSED, width, dash: [7, 5], name });
    });
    this.list.forEach(({ index, bad, name, left, light }) => {
      const edge = this.edges[index];
      if (edge.frame !== frame) return;
      const how = {
        colour: bad ? CONTRADICTS : LIGHT,
        width: this.lit === light ? 3.4 : 2,
        name: left ? `${name} · ${left}` : name,
      };
      const spots = this.drawEdge(pen, part, edge.points, how);
      for (const pin of edge.pins) dot(pen, live.stage.place(part, pin), 4, ratio);
      this.offer(index, spots);
    });
    for (const pin of this.pins) dot(pen, live.stage.place(part, pin), 5, ratio);
  },

  /**
   * @param {Pen} pen
   * @param {Part} part
   * @param {Place[]} points
   * @param {{ colour: string, width: number, dash?: number[], name: string }} how
   */
  drawEdge(pen, part, points, { name, ...how }) {
    const { ratio } = live.stage;
    const spots = points.map((point) => live.stage.place(part, point));
    through(pen, spots);
    outlined(pen, { ...how, ratio });
    const [x, y] = spots[Math.floor(spots.length / 2)];
    label(pen, name, [x + 6 * ratio, y - 10 * ratio], ratio);
    return spots;
  },

  /**
   * Let a trace be taken hold of.
   * @param {number} index
   * @param {Spot[]} spots
   */
  offer(index, spots) {
    const pins = [...this.edges[index].pins];
    live.stage.overlay.grips.push({
      away: (spot) => Math.min(...spots.map((one) => apart(one, spot))),
      reach: NEAR,
      move: (spot, settled) => this.bend(index, pins, spot, settled),
    });
  },
}));
