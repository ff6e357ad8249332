// The picture's box: the stage is made here and follows what is shared; the divider and the wheel.
import { component } from "../../lib/component.js";
import { Clock } from "../clock.js";
import { live } from "../live.js";
import { Around, back, turned } from "../stage/around.js";
import { drawnOf } from "../stage/drawn.js";
import { Lattice } from "../stage/lattice.js";
import { Pointer } from "../stage/pointer.js";
import { drawAround } from "../stage/sphere-marks.js";
import { Stage } from "../stage/stage.js";
import { get } from "../../lib/api.js";

const LOST = "The graphics card was lost for a moment; the picture comes back by itself.";
/** @type {Record<string, [number, number]>} */
const WAYS = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] };
const SHARE = 0.02; // of the picture that a key moves the divider
const TURN = 0.1; // radians that it turns it

component("stageBox", () => ({
  fetching: false,

  init() {
    const { clip, view } = this.$store;
    const { picture, overlay, video } = this.$refs;
    const clock = new Clock(video);
    try {
      live.stage = new Stage({ picture, overlay }, clock, () => view);
    } catch (error) {
      clip.problem = /** @type {Error} */ (error).message;
      return;
    }
    live.clock = clock;
    live.pointer = new Pointer(this.$root, live.stage);
    live.stage.renderer.lost = () => {
      clip.note = LOST;
    };
    live.stage.renderer.restored = async () => {
      await live.stage.retake();
      if (clip.note === LOST) clip.note = "";
    };
    clock.told.push((frame) => this.moved(frame));
    for (const name of ["play", "pause"]) {
      video.addEventListener(name, () => {
        clip.playing = clock.playing;
      });
    }
    video.addEventListener("error", () => {
      if (video.src) clip.problem = "The proxy cannot be played in this browser.";
    });
    if (clip.aids.includes("around")) {
      live.stage.overlay.extras.push((pen, part) => this.drawAround(pen, part));
    }
    this.follow();
    new ResizeObserver(() => this.placeDivider()).observe(this.$root);
  },

  /** Draw again whatever changes. */
  follow() {
    const { clip, view } = this.$store;
    window.Alpine.effect(() => {
      const { answer, first } = clip;
      // Outside of the effect: what drawing reads is no reason to take the same answer again.
      if (answer) queueMicrotask(() => this.take(answer, first));
    });
    window.Alpine.effect(() => {
      live.stage.draw(); // which reads how it is looked at
      if (view.mode === "split" && view.zoom) this.placeDivider();
    });
  },

  /**
   * @param {Answer} answer
   * @param {number} first frame of the range
   */
  take(answer, first) {
    const { clip } = this.$store;
    const { stage } = live;
    // Of a long clip, what is near came first: it starts later. Where a view looks is known here
    // before the server has worked out what that costs.
    const drawn = drawnOf(answer, answer.first - first, (name, n) =>
      clip.valueAt(`view.${name}`, n),
    );
    if (answer.sphere) stage.source = { ...answer.sphere.shape, aspect: 1 };
    stage.show(drawn);
    stage.looks = (name) => drawn.looks(name, clip.at);
    stage.renderer.setStages(answer.pixels, answer.report.dead?.sides ?? []);
    stage.draw();
    this.$root.dataset.shown = String(performance.now());
  },

  /**
   * The horizon of what comes out, and what below the camera does not steer.
   * @param {Pen} pen
   * @param {Part} part
   */
  drawAround(pen, part) {
    const { clip, view } = this.$store;
    const { at } = live.clock;
    if (!view.around || !(part.lattice instanceof Around)) return;
    const nadir = clip.value("motion.nadir");
    const turns = back(part.lattice.steady(at));
    const { ratio } = live.stage;
    drawAround(pen, part, { at, nadir, ratio, turned: (ray) => turned(turns, ray) });
  },

  /** @param {number} frame */
  moved(frame) {
    const { clip, view } = this.$store;
    clip.frame = frame;
    if (clip.ready) this.followLattice();
    if (view.mode === "split") this.placeDivider();
  },

  /** The lattice of a long clip that bends comes in pieces: the next one, if it is needed. */
  async followLattice() {
    const { clip } = this.$store;
    const idle = !this.fetching && !clip.wish && !clip.asking && clip.answer?.whole;
    if (!idle || live.stage.lattice.holds(clip.at)) return;
    this.fetching = true;
    await clip.guard(async () => {
      const { lattice } = await get(`${clip.base}/lattice?near=${clip.at}`);
      if (lattice) live.stage.lattice = Lattice.of(lattice);
      live.stage.draw();
    });
    this.fetching = false;
  },

  /** What is said over the picture: what is waited for comes first. */
  get note() {
    const { clip, view } = this.$store;
    if (view.clean) return "Everything over the picture is hidden; H brings it back.";
    return clip.working || clip.note || view.exactWords;
  },

  /** @param {WheelEvent} event */
  wheel(event) {
    const factor = event.deltaY < 0 ? 1.25 : 0.8;
    if (live.pointer.free?.wheel?.(live.stage.spot(event), factor)) return;
    live.stage.closer(factor, live.stage.spot(event));
    this.placeDivider();
  },

  // --- the divider ---------------------------------------------------------------------------------

  placeDivider() {
    if (!live.stage) return;
    const { point } = live.stage.line();
    const { divider, knob } = this.$refs;
    divider.style.left = `${point[0] / live.stage.ratio}px`;
    divider.style.top = `${point[1] / live.stage.ratio}px`;
    const { turn } = live.stage.split;
    knob.style.transform = `translate(${-38 * Math.sin(turn)}px, ${38 * Math.cos(turn)}px)`;
  },

  redraw() {
    live.stage.draw();
    this.placeDivider();
  },

  /** @param {PointerEvent} event */
  hold(event) {
    const handle = /** @type {HTMLElement} */ (event.currentTarget);
    handle.setPointerCapture(event.pointerId);
  },

  /**
   * @param {PointerEvent} event
   * @param {boolean} turns whether the knob is held instead of the divider
   */
  drag(event, turns) {
    const handle = /** @type {HTMLElement} */ (event.currentTarget);
    if (!handle.hasPointerCapture(event.pointerId)) return;
    const [x, y] = live.stage.spot(event);
    const { split } = live.stage;
    const { box, point } = live.stage.line();
    if (turns) split.turn = Math.atan2(y - point[1], x - point[0]) - Math.PI / 2;
    else this.splitAt((x - box.left) / box.width, (y - box.top) / box.height);
    this.redraw();
  },

  /**
   * @param {number} x
   * @param {number} y
   */
  splitAt(x, y) {
    const { split } = live.stage;
    split.x = Math.max(0, Math.min(1, x));
    split.y = Math.max(0, Math.min(1, y));
  },

  /** @param {KeyboardEvent} event */
  nudge(event) {
    const way = WAYS[event.key];
    if (!way) return;
    event.preventDefault();
    event.stopPropagation();
    const { split } = live.stage;
    if (event.shiftKey) split.turn += TURN * (way[0] + way[1]);
    else this.splitAt(split.x + SHARE * way[0], split.y + SHARE * way[1]);
    this.redraw();
  },
}));
