// How the clip is looked at, which is a person's own: views, overlays, the grid. Kept in this
// browser, shared by the panels.
import { shared } from "../lib/component.js";
import { prefer, preference } from "../lib/preferences.js";
import { live } from "./live.js";
import { RULING } from "./stage/grid.js";

/** @typedef {"original" | "treated" | "split" | "side" | "difference"} Mode */
/** @typedef {ReturnType<typeof makeView>} ViewStore */

const makeView = () => ({
  /** @type {Mode} */
  mode: "treated",
  grid: preference("grid", false),
  bare: preference("bare", true), // whether bare edges are hatched
  marks: preference("marks", false),
  around: preference("around", true), // whether a sphere's horizon and nadir are drawn
  dotSize: preference("dotSize", 4),
  trail: preference("trail", 8), // frames
  ruling: { ...RULING, ...preference("ruling", {}) },
  shortcuts: preference("shortcuts", true), // whether single keys do something
  peek: false, // at the original, as long as a key is held
  help: false, // whether the card of keys is open
  clean: false, // nothing at all over the picture
  zoom: 1,
  scopes: preference("scopes", false), // whether scopes stand beside the picture
  exact: false, // whether frames at rest are drawn as an export draws them
  exactLoop: false, // whether the loop is played as an export draws it
  fringes: false, // whether nothing but fringes is shown of them
  exactly: -1, // the frame that is
  exactWords: "", // what is said of that over the picture
  /** @type {[[number, number], [number, number]] | null} where its colours part most, px */
  fringe: null,
  fringeWords: "", // and how much of that is gone
  /** @type {string[]} what was measured in it */
  measuredWords: [],

  /** @param {Mode} mode */
  show(mode) {
    this.mode = mode;
    // A difference needs the picture before, too.
    if (mode === "difference" && !live.clock.playing) {
      live.clock.seek(live.clock.frame, { withBefore: true });
    }
  },

  /** @param {"grid" | "bare" | "marks" | "around" | "scopes"} name */
  toggle(name) {
    this.clean = false;
    this.set(name, !this[name]);
  },

  /** Exact view on or off; at 100 % where the pointer is, if the whole picture was on show. */
  toggleExact() {
    this.exact = !this.exact;
    if (!this.exact) this.fringes = false;
    if (this.exact && this.zoom === 1) live.stage.lookClosely();
  },

  /** The loop as an export draws it, or the proxy again. */
  toggleExactLoop() {
    this.exactLoop = !this.exactLoop;
  },

  /** Nothing but fringes of the frame on show, or all of it again. */
  toggleFringes() {
    this.fringes = !this.fringes;
    if (this.fringes) this.exact = true;
  },

  /**
   * @param {"grid" | "bare" | "marks" | "around" | "scopes" | "dotSize" | "trail" | "ruling" | "shortcuts"} name
   * @param {any} value
   */
  set(name, value) {
    // @ts-expect-error each has its own type
    this[name] = value;
    prefer(name, value);
  },
});

shared("view", makeView());
