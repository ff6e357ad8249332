// Scopes beside the picture: waveform, parade, radius profile of the frame on show, recorded and
// treated. The server works them out of small pictures; here they are drawn.
import { bytesOf, sendPixels } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { prefer, preference } from "../../lib/preferences.js";
import { live } from "../live.js";

const WIDE = 192; // px of the small pictures
const EVERY = 60; // ms between questions, at least
const INK = {
  luma: [226, 232, 234],
  red: [238, 96, 84],
  green: [96, 196, 128],
  blue: [96, 150, 240],
};
const PARTS = ["recorded", "treated"];
const BAND = "scope-band"; // name of the tool
/** @type {(keyof typeof INK)[]} */
const COLOURS = ["red", "green", "blue"];

/** @typedef {{ luma: string, parade: string[], profile: (number | null)[] }} ScopePart */

component("scopes", () => ({
  kind: preference("scope", "waveform"),
  /** @type {[number, number]} rows that waveforms are of, shares of the picture's height */
  band: [0, 1],
  told: /** @type {ScopePart[]} */ ([]),
  asked: 0, // when, ms
  count: 0, // answers, for measuring
  busy: false,
  again: false,
  sizes: { levels: 1, columns: 1 },

  init() {
    this.sizes = JSON.parse(this.$root.dataset.sizes ?? "{}");
    window.Alpine.effect(() => {
      const { view, clip } = this.$store;
      // All that is on show; a stage has a frame of its own by then.
      const now = {
        wanted: view.scopes && clip.ready,
        of: [clip.frame, clip.answered, view.exactly],
      };
      if (now.wanted) queueMicrotask(() => this.ask());
    });
    live.pointer?.add(BAND, this.dragging());
    live.stage?.overlay.extras.push((pen, part) => this.drawBand(pen, part));
    window.Alpine.effect(() => {
      const shown = [this.kind, this.told];
      if (shown) queueMicrotask(() => this.draw());
    });
  },

  get bandWords() {
    const [from, to] = this.band.map((share) => Math.round(100 * share));
    return this.isNarrow ? `rows ${from}–${to} %` : "whole frame";
  },

  /** @param {string} kind */
  choose(kind) {
    this.kind = kind;
    prefer("scope", kind);
  },

  /** One question at a time; what has changed meanwhile is asked for next. */
  async ask() {
    if (this.busy) {
      this.again = true;
      return;
    }
    const wait = this.asked + EVERY - performance.now();
    this.busy = true;
    if (wait > 0) await new Promise((done) => setTimeout(done, wait));
    this.asked = performance.now();
    const { clip } = this.$store;
    const small = live.stage?.small(WIDE);
    const found =
      small &&
      (await clip.guard(() =>
        sendPixels("/scopes", small, { from: this.band[0], to: this.band[1] }),
      ));
    this.busy = false;
    if (found) {
      this.told = found.parts;
      this.count += 1;
    }
    const { again } = this;
    this.again = false;
    if (again && this.$store.view.scopes) await this.ask();
  },

  draw() {
    this.told.forEach((part, k) => {
      const canvas = /** @type {HTMLCanvasElement | undefined} */ (this.$refs[PARTS[k]]);
      const pen = canvas?.getContext("2d");
      if (!canvas || !pen) return;
      pen.fillStyle = "#101a20";
      pen.fillRect(0, 0, canvas.width, canvas.height);
      if (this.kind === "profile") this.drawProfile(pen, part.profile);
      else if (this.kind === "waveform") this.drawWaves(pen, [part.luma], ["luma"]);
      else this.drawWaves(pen, part.parade, COLOURS);
      rule(pen);
    });
  },

  /**
   * @param {CanvasRenderingContext2D} pen
   * @param {string[]} waves
   * @param {(keyof typeof INK)[]} inks
   */
  drawWaves(pen, waves, inks) {
    const { levels, columns } = this.sizes;
    const { width, height } = pen.canvas;
    const each = width / waves.length;
    waves.forEach((packed, k) => {
      const counts = new Uint8Array(bytesOf(packed));
      const image = new ImageData(columns, levels);
      const [red, green, blue] = INK[inks[k]];
      for (let i = 0; i < counts.length; i++) {
        image.data[4 * i] = red;
        image.data[4 * i + 1] = green;
        image.data[4 * i + 2] = blue;
        image.data[4 * i + 3] = counts[i];
      }
      const wave = new OffscreenCanvas(columns, levels);
      wave.getContext("2d")?.putImageData(image, 0, 0);
      pen.drawImage(wave, k * each, 0, each - (waves.length > 1 ? 2 : 0), height);
    });
  },

  /**
   * @param {CanvasRenderingContext2D} pen
   * @param {(number | null)[]} profile
   */
  drawProfile(pen, profile) {
    const { width, height } = pen.canvas;
    pen.strokeStyle = "#e2e8ea";
    pen.lineWidth = 2;
    pen.beginPath();
    profile.forEach((value, ring) => {
      if (value === null) return;
      pen.lineTo(((ring + 0.5) / profile.length) * width, (1 - value / 100) * height);
    });
    pen.stroke();
  },

  // --- the band ------------------------------------------------------------------------------------

  get isNarrow() {
    return this.band[1] - this.band[0] < 1;
  },

  get isDragging() {
    return this.$store.clip.tool === BAND;
  },

  dragBand() {
    this.$store.clip.useTool(BAND);
  },

  /** Dragged on the picture, from one row to another. @returns {Tool} */
  dragging() {
    let from = 0;
    const share = (/** @type {Spot} */ spot) => {
      const { box } = live.stage.partAt(spot);
      return Math.max(0, Math.min(1, (spot[1] - box.top) / box.height));
    };
    return {
      down: (spot) => {
        from = share(spot);
      },
      move: (spot) => this.bandTo([from, share(spot)]),
      up: () => this.$store.clip.endTool(),
    };
  },

  /** @param {number} by shares of the picture's height, down */
  nudge(by) {
    const [from, to] = this.isNarrow ? this.band : [0.4, 0.6];
    const moved = Math.max(-from, Math.min(1 - to, by));
    this.bandTo([from + moved, to + moved]);
  },

  whole() {
    this.bandTo([0, 1]);
  },

  /** @param {[number, number]} rows */
  bandTo([from, to]) {
    const [low, high] = [Math.min(from, to), Math.max(from, to)];
    this.band = high - low < 0.02 ? [0, 1] : [low, high];
    live.stage.drawOver();
    this.ask();
  },

  /**
   * @param {Pen} pen
   * @param {Part} part
   */
  drawBand(pen, { box, treated }) {
    if (!this.$store.view.scopes || !this.isNarrow) return;
    pen.strokeStyle = treated ? "#ffe27a" : "#fff";
    pen.lineWidth = 1.5 * live.stage.ratio;
    for (const share of this.band) {
      pen.beginPath();
      pen.moveTo(box.left, box.top + share * box.height);
      pen.lineTo(box.left + box.width, box.top + share * box.height);
      pen.stroke();
    }
  },
}));

/**
 * Lines at quarters, from black to white.
 * @param {CanvasRenderingContext2D} pen
 */
function rule(pen) {
  const { width, height } = pen.canvas;
  pen.strokeStyle = "rgb(255 255 255 / 18%)";
  pen.lineWidth = 1;
  for (const share of [0.25, 0.5, 0.75]) {
    pen.beginPath();
    pen.moveTo(0, Math.round(share * height) + 0.5);
    pen.lineTo(width, Math.round(share * height) + 0.5);
    pen.stroke();
  }
}
