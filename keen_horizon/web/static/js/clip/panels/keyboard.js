// The keyboard, and the card that lists what it does: both from one table.
import { component } from "../../lib/component.js";
import { live } from "../live.js";
import { dropKey, nextKeyFrame } from "../treatment.js";

/** @typedef {{ clip: ClipStore, view: ViewStore, shift: boolean }} Pressed */
/**
 * What is shown, what it says, what each key does, and which aid over or beside the picture it is
 * for, if a kind of clip may be without it.
 * @typedef {[string, string, Record<string, (now: Pressed) => void>, string?]} Row
 */

/** @type {import("../view.js").Mode[]} */
const MODES = ["original", "treated", "split", "side", "difference"];

/**
 * @param {Pressed} now
 * @param {number} count
 */
function stepFrames({ view, shift }, count) {
  live.clock.step(shift ? 10 * count : count, { withBefore: view.mode === "difference" });
}

/**
 * @param {Pressed} now
 * @param {number} way
 */
function toKey({ clip }, way) {
  const frame = clip.treatment && nextKeyFrame(clip.treatment, clip.frame, way);
  if (typeof frame === "number") clip.go(frame);
}

/** @param {Pressed} now */
function loopFrom({ clip }) {
  const last = clip.loop && clip.loop[1] > clip.frame ? clip.loop[1] : clip.last;
  clip.setLoop(clip.frame, last);
}

/** @param {Pressed} now */
function loopTo({ clip }) {
  const first = clip.loop && clip.loop[0] < clip.frame ? clip.loop[0] : clip.first;
  clip.setLoop(first, clip.frame);
}

/** @param {Pressed} now */
function deleteKeys({ clip }) {
  const names = clip.keyedHere;
  if (!names.length) return;
  clip.edit((treatment) => {
    for (const name of names) dropKey(treatment, name, clip.frame);
  });
}

/** @param {Pressed} now */
function toTightest({ clip }) {
  const frame = clip.answer?.stations.frame?.figures.find((one) => one.frame !== null)?.frame;
  if (typeof frame === "number") clip.go(frame);
}

/** @param {Pressed} now */
function toFurthest({ clip }) {
  const hold = clip.answer?.report.hold;
  if (hold) clip.go(hold.furthest_frame);
}

/** @param {Pressed} now */
function playPause({ clip }) {
  if (!clip.frameCount) return;
  if (live.clock.playing) live.clock.pause();
  else live.clock.play();
}

/** @type {Row[]} */
const ROWS = [
  ["Space", "play, pause", { " ": playPause }],
  [
    "J K L",
    "slower or back, stop, play",
    {
      j: () => live.clock.slower(),
      k: () => live.clock.pause(),
      l: () => live.clock.faster(),
    },
  ],
  [
    "← →",
    "one frame; with Shift ten",
    { ArrowLeft: (now) => stepFrames(now, -1), ArrowRight: (now) => stepFrames(now, 1) },
  ],
  [
    "Home End",
    "first, last frame",
    {
      Home: ({ clip }) => live.clock.seek(clip.first),
      End: ({ clip }) => live.clock.seek(clip.last),
    },
  ],
  [
    "O",
    "hold to peek at the original",
    {
      o: ({ view }) => {
        view.peek = true;
      },
    },
  ],
  [
    "H",
    "hide or show everything over the picture",
    {
      h: ({ view }) => {
        view.clean = !view.clean;
      },
    },
  ],
  ["G", "grid", { g: ({ view }) => view.toggle("grid") }],
  ["M", "marks", { m: ({ view }) => view.toggle("marks") }, "marks"],
  ["E", "bare edges", { e: ({ view }) => view.toggle("bare") }, "edges"],
  [
    "N",
    "horizon, uprights, what below does not steer",
    { n: ({ view }) => view.toggle("around") },
    "around",
  ],
  ["W", "scopes", { w: ({ view }) => view.toggle("scopes") }, "scopes"],
  [
    "X",
    "exact view: as an export draws it, at 100 % under the pointer; with Shift, the loop",
    { x: ({ view, shift }) => (shift ? view.toggleExactLoop() : view.toggleExact()) },
    "exact",
  ],
  ["T F", "tightest frame; held point furthest off", { t: toTightest, f: toFurthest }],
  [
    "1 2 3 4 5",
    "original, treated, split, side by side, difference",
    Object.fromEntries(MODES.map((mode, k) => [String(k + 1), ({ view }) => view.show(mode)])),
  ],
  ["[ ]", "keyframe before, after", { "[": (now) => toKey(now, -1), "]": (now) => toKey(now, 1) }],
  ["Del", "delete the keyframes here", { Delete: deleteKeys }],
  [", .", "loop from here, to here", { ",": loopFrom, ".": loopTo }],
  [
    "+ − 0",
    "nearer, farther, whole picture",
    {
      "+": () => live.stage.closer(1.5),
      "=": () => live.stage.closer(1.5),
      "-": () => live.stage.closer(1 / 1.5),
      0: () => live.stage.look(1),
    },
  ],
];
// Keys that do something even where single keys are switched off: they are no letters or signs.
const ALWAYS = [" ", "ArrowLeft", "ArrowRight", "Home", "End", "Delete", "Escape"];
const SLIDES = ["Home", "End", "PageUp", "PageDown"]; // keys that a slider has for itself

/** @param {EventTarget | null} target */
function isTyping(target) {
  const element = /** @type {HTMLInputElement} */ (target);
  if (element.tagName === "INPUT") return element.type !== "range" && element.type !== "checkbox";
  return element.tagName === "SELECT" || element.tagName === "TEXTAREA";
}

component("keyboard", () => ({
  /** @type {{ keys: string, says: string }[]} */
  rows: [],
  /** @type {Row[2]} */
  acts: {},
  /** @type {EventTarget | null} what was clicked last: the space bar is for playing there */
  clicked: null,

  init() {
    const { aids } = this.$store.clip;
    const rows = ROWS.filter(([, , , aid]) => !aid || aids.includes(aid));
    this.rows = rows.map(([keys, says]) => ({ keys, says }));
    this.acts = Object.assign({}, ...rows.map(([, , acts]) => acts));
  },

  /** @param {MouseEvent} event */
  noteClick(event) {
    this.clicked = event.detail > 0 ? document.activeElement : null;
  },

  /** @param {KeyboardEvent} event */
  key(event) {
    if (isTyping(event.target) || event.altKey || !live.stage) return;
    const name = event.key.length === 1 ? event.key.toLowerCase() : event.key;
    if (event.ctrlKey || event.metaKey) this.command(event, name);
    else if (!this.belongsTo(/** @type {HTMLElement} */ (event.target), name))
      this.act(event, name);
  },

  /**
   * A focused slider keeps its arrows, a focused button its space bar; but one that was clicked
   * only holds the place.
   * @param {HTMLElement} element
   * @param {string} name
   */
  belongsTo(element, name) {
    const { tagName } = element;
    if (tagName === "INPUT") {
      const slides = /** @type {HTMLInputElement} */ (element).type === "range";
      return slides ? SLIDES.includes(name) || name.startsWith("Arrow") : name === " ";
    }
    if (tagName === "BUTTON" || tagName === "SUMMARY" || tagName === "A") {
      return (name === " " && element !== this.clicked) || name === "Enter";
    }
    return false;
  },

  /**
   * @param {KeyboardEvent} event
   * @param {string} name
   */
  command(event, name) {
    const way = name === "y" || (name === "z" && event.shiftKey) ? "redo" : "undo";
    if (name !== "z" && name !== "y") return;
    event.preventDefault();
    this.$store.clip.step(way);
  },

  /**
   * @param {KeyboardEvent} event
   * @param {string} name
   */
  act(event, name) {
    const { clip, view } = this.$store;
    if (!view.shortcuts && !ALWAYS.includes(name)) return;
    if (name === "?") this.toggle();
    else if (name === "Escape") this.escape();
    else if (this.acts[name]) this.acts[name]({ clip, view, shift: event.shiftKey });
    else return;
    event.preventDefault();
  },

  /** @param {KeyboardEvent} event */
  keyUp(event) {
    if (event.key.toLowerCase() === "o") this.$store.view.peek = false;
    // A button that was clicked must not be pressed by the space bar that played.
    if (event.key === " " && event.target === this.clicked) event.preventDefault();
  },

  /** Out of whatever was begun last. */
  escape() {
    const { clip, view } = this.$store;
    if (clip.tool) clip.endTool();
    else if (view.help) view.help = false;
    else if (clip.loop) clip.endLoop();
    else live.stage.look(1);
  },

  toggle() {
    this.$store.view.help = !this.$store.view.help;
  },
}));
