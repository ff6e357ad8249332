// Exact view: the frame on show as an export draws it, whenever the picture rests.
import { post } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { settled } from "../../lib/wait.js";
import { live } from "../live.js";
import { ExactPictures } from "../stage/exact.js";

const RESTS = 120; // ms without a change, before a frame is drawn
const ENLARGED = 8; // times, in the loupe
const NEAR = 25; // ms between questions: a frame is drawn in well under a second

/** @param {string} address */
async function bitmapAt(address) {
  const answer = await fetch(address);
  if (!answer.ok)
    throw new Error("The exact picture has gone; it is drawn again when it is asked for.");
  return createImageBitmap(await answer.blob());
}

/** @param {Record<string, string>} addresses */
async function picturesOf(addresses) {
  const drawn = await Promise.all(Object.values(addresses).map(bitmapAt));
  return Object.fromEntries(Object.keys(addresses).map((name, k) => [name, drawn[k]]));
}

component("exactView", () => ({
  timer: 0,

  init() {
    window.Alpine.effect(() => {
      const { clip, view } = this.$store;
      // All that a picture depends on.
      const { exact: on, fringes } = view;
      const now = { on, rests: this.rests, of: [clip.answer, clip.frame, fringes] };
      queueMicrotask(() => this.changed(now));
    });
  },

  /** @param {{ on: boolean, rests: boolean }} now */
  changed({ on, rests }) {
    window.clearTimeout(this.timer);
    if (!live.stage) return;
    if (!on) {
      if (this.$store.view.exactWords || live.stage.exact) this.drop();
      return;
    }
    this.mark();
    if (rests) this.timer = window.setTimeout(() => this.fetch(), RESTS);
  },

  /** Whether nothing moves and nothing is asked. */
  get rests() {
    const { clip } = this.$store;
    return !clip.playing && !clip.asking && !clip.wish && Boolean(clip.answer?.whole);
  },

  /** Say whether what was drawn is still that of the frame and the treatment on show. */
  mark() {
    const { clip, view } = this.$store;
    const shown = live.stage.exact;
    const stale = !shown?.isOf(clip.frame, window.Alpine.raw(clip.answer), view.fringes);
    if (stale && view.exactly >= 0) {
      view.exactly = -1;
      live.stage.draw();
    }
    view.exactWords = clip.playing ? "Exact view waits until the picture rests." : "";
    if (view.exactly === clip.frame) this.say();
  },

  async fetch() {
    const { clip, view } = this.$store;
    const { frame } = clip;
    const answer = window.Alpine.raw(clip.answer);
    if (frame < clip.first || frame > clip.last) return;
    const { fringes } = view;
    if (live.stage.exact?.isOf(frame, answer, fringes)) {
      this.show(frame);
      return;
    }
    const wanted = () =>
      view.exact &&
      view.fringes === fringes &&
      clip.frame === frame &&
      window.Alpine.raw(clip.answer) === answer;
    view.exactWords = `Exact view: drawing frame ${frame} …`;
    const made = await clip.guard(() =>
      settled(() => post(`${clip.base}/exact`, { treatment: clip.treatment, frame, fringes }), {
        work: (one) => one.work,
        wanted,
        every: NEAR,
        failed: "The exact view was not drawn.",
      }),
    );
    const pictures = made && (await clip.guard(() => picturesOf(made.pictures)));
    if (!pictures) {
      if (wanted()) view.exactWords = "";
      return;
    }
    if (!wanted()) {
      for (const picture of Object.values(pictures)) picture.close();
      return;
    }
    this.drop();
    live.stage.exact = new ExactPictures(frame, answer, pictures);
    view.fringe = made.fringe;
    view.measuredWords = made.words;
    view.fringeWords = made.fringe_words;
    this.show(frame);
  },

  /** @param {number} frame that was drawn exactly */
  show(frame) {
    this.$store.view.exactly = frame;
    this.say();
    live.stage.draw();
  },

  /** That what is on show is exact. */
  say() {
    const { clip, view } = this.$store;
    view.exactWords = view.fringes
      ? `Nothing but the fringes of frame ${clip.frame}: grey where there are none`
      : `Exact view of frame ${clip.frame}, as an export draws it`;
  },

  drop() {
    const { view } = this.$store;
    view.exactWords = "";
    live.stage.exact?.close();
    live.stage.exact = null;
    view.exactly = -1;
    view.fringe = null;
    view.measuredWords = [];
    view.fringeWords = "";
    live.stage.draw();
  },
}));

// The strongest fringe of the frame, recorded and treated, eight times as large.
component("fringeLoupe", () => ({
  init() {
    window.Alpine.effect(() => {
      const { view } = this.$store;
      const { fringe, exactly } = view;
      queueMicrotask(() => this.draw(exactly >= 0 ? fringe : null));
    });
  },

  get has() {
    const { view } = this.$store;
    return view.exactly >= 0 && Boolean(view.fringe);
  },

  get words() {
    const { view } = this.$store;
    if (!view.exact) return "";
    if (view.exactly < 0) return "The frame is being drawn …";
    if (view.fringes) return view.fringeWords;
    if (view.measuredWords.length) return view.measuredWords.join(" ");
    return view.fringe ? "" : "No edge of this frame is sharp enough to look at.";
  },

  /** @param {[[number, number], [number, number]] | null} fringe */
  draw(fringe) {
    const { exact } = live.stage ?? {};
    if (!fringe || !exact) return;
    [exact.pictures.recorded, exact.pictures.treated].forEach((picture, k) => {
      const canvas = /** @type {HTMLCanvasElement} */ (this.$refs[k ? "treated" : "recorded"]);
      const pen = /** @type {CanvasRenderingContext2D} */ (canvas.getContext("2d"));
      const [wide, high] = [canvas.width / ENLARGED, canvas.height / ENLARGED];
      const [x, y] = fringe[k];
      pen.imageSmoothingEnabled = false;
      pen.fillRect(0, 0, canvas.width, canvas.height);
      const [left, top] = [Math.round(x - wide / 2), Math.round(y - high / 2)];
      pen.drawImage(picture, left, top, wide, high, 0, 0, canvas.width, canvas.height);
    });
  },
}));
