// What all panels of the clip screen share: where the clip stands, its treatment, the answer to it,
// the frame on show. Panels read and change it, and know of nothing else.
import { get, headers, post, unpack } from "../lib/api.js";
import { shared } from "../lib/component.js";
import { finished, settled } from "../lib/wait.js";
import { live } from "./live.js";
import { defaults, settings } from "./settings.js";
import {
  alongLine,
  dropKey,
  hasEffect,
  keyFrames,
  keysOf,
  namesAt,
  putKey,
  replaceGroup,
  rounded,
  setValue,
  valueOf,
} from "./treatment.js";

const OVERTAKEN = 409; // status of an answer to a change that somebody else was quicker with
const SILENT = 500; // ms that an answer may take without a word

/** @typedef {ReturnType<typeof makeClip>} ClipStore */
/** @typedef {{ keep: boolean, sliding: boolean }} Wish */

/**
 * A copy that shares nothing with what is watched.
 * @template T
 * @param {T} value
 * @returns {T}
 */
const copyOf = (value) => JSON.parse(JSON.stringify(window.Alpine.raw(value)));

const makeClip = () => ({
  base: "", // address of the clip
  /** @type {string[]} what there is over and beside the picture of this kind of clip */
  aids: [],
  /** @type {ClipState | null} */
  state: null,
  ready: false,
  problem: "",
  note: "", // what stands over the picture
  working: "", // what is waited for, in words
  station: "motion", // whose tools are open
  /** @type {Record<string, string>} which of a station's tools are open, by station */
  tabs: {},
  /** @type {Record<string, boolean>} parts of the tools that are open */
  folds: {},
  tool: "", // name of what the pointer does on the picture
  first: 0, // frames of the range
  last: 0,
  frameCount: 0,
  frame: 0, // of the recording, on show
  playing: false,
  /** @type {Treatment | null} */
  treatment: null,
  /** @type {Treatment | null} as it was kept last */
  kept: null,
  /** @type {Answer | null} to the treatment, as a whole; never changed */
  answer: null,
  answered: 0, // answers drawn, for who wants to know of a new one
  /** @type {Record<string, Float32Array>} values of keyed settings, one a frame of the range */
  keyedLines: {},
  /** @type {[number, number] | null} frames of the recording that are played over and over */
  loop: null,
  /** @type {Wish | null} */
  wish: null,
  asking: false,
  based: 0, // number of the revision that the treatment was made of
  going: 0, // how many moves to other revisions, and settings told by hand, are under way
  waiting: 0, // counts waits for a worker: only the last one goes on

  // --- the frame ---------------------------------------------------------------------------------

  /** Frame of the range; the nearest one where the recording is shown outside. */
  get at() {
    return Math.max(0, Math.min(this.last - this.first, this.frame - this.first));
  },

  get count() {
    return this.last - this.first + 1;
  },

  /** @param {number} frame of the recording */
  go(frame) {
    live.clock.pause();
    live.clock.seek(frame);
  },

  /**
   * Play a stretch over and over; all of the range is no loop.
   * @param {number} first
   * @param {number} last
   */
  setLoop(first, last) {
    const whole = (first <= this.first && last >= this.last) || last <= first;
    this.loop = whole ? null : [first, last];
    live.clock.loop = this.loop && [first, last];
  },

  endLoop() {
    this.setLoop(this.first, this.last);
  },

  // --- values ------------------------------------------------------------------------------------

  /** @param {string} name */
  isKeyed(name) {
    return Boolean(this.treatment && keysOf(this.treatment, name).length);
  },

  /** @param {string} name */
  hasKeyHere(name) {
    if (!this.treatment || !this.isKeyed(name)) return false;
    return keysOf(this.treatment, name).some((key) => key.frame === this.frame);
  },

  /**
   * The value of a setting at a frame of the range.
   * @param {string} name
   * @param {number} at
   */
  valueAt(name, at) {
    if (!this.treatment) return settings[name]?.default ?? null;
    const line = this.isKeyed(name) && this.keyedLines[name];
    return line ? alongLine(line, at) : valueOf(this.treatment, name);
  },

  /**
   * The value of a setting at the frame on show.
   * @param {string} name
   */
  value(name) {
    // What stays the same all along must not be bound to the frame: playing would type over an entry.
    const changes = this.treatment && this.isKeyed(name);
    const value = this.valueAt(name, changes ? this.at : 0);
    return typeof value === "number" ? rounded(value, settings[name].step) : value;
  },

  /** @param {string} name */
  isShown(name) {
    const treatment = this.treatment ?? /** @type {Treatment} */ (defaults);
    return hasEffect(treatment, settings[name], name.split(".")[0]);
  },

  /**
   * A value for the whole clip, or for the frame on show where it changes over the clip.
   * @param {string} name
   * @param {any} value
   */
  put(name, value) {
    if (!this.treatment) return;
    if (this.isKeyed(name)) putKey(this.treatment, name, this.frame, value);
    else setValue(this.treatment, name, value);
  },

  /**
   * The same, and what comes of it. `settled` keeps it; otherwise the next value is on its way.
   * @param {string} name
   * @param {any} value
   * @param {boolean} [settled]
   */
  change(name, value, settled = true) {
    this.put(name, value);
    this.solve(settled);
  },

  /**
   * Several changes at once.
   * @param {(treatment: Treatment) => void} change
   * @param {boolean} [settled]
   */
  edit(change, settled = true) {
    if (!this.treatment) return;
    change(this.treatment);
    this.solve(settled);
  },

  /**
   * Settings that were found together take the place of those that were there.
   * @param {string} station
   * @param {Record<string, any>} values
   * @param {boolean} [settled]
   */
  adopt(station, values, settled = true) {
    this.edit((treatment) => replaceGroup(treatment, settings, station, values), settled);
  },

  // --- keyframes ---------------------------------------------------------------------------------

  get keyFrames() {
    return this.treatment ? keyFrames(this.treatment) : [];
  },

  /** The settings that have a keyframe at the frame on show. */
  get keyedHere() {
    return this.treatment ? namesAt(this.treatment, this.frame) : [];
  },

  /** @param {string} name */
  toggleKey(name) {
    const value = this.value(name);
    const here = this.hasKeyHere(name);
    this.edit((treatment) => {
      if (here) dropKey(treatment, name, this.frame);
      else putKey(treatment, name, this.frame, value);
    });
  },

  // --- asking ------------------------------------------------------------------------------------

  /**
   * Do something that may fail; what went wrong is said in the tools.
   * @template T
   * @param {() => Promise<T> | T} action
   * @returns {Promise<T | null>}
   */
  async guard(action) {
    try {
      this.problem = "";
      return await action();
    } catch (error) {
      this.problem = /** @type {Error} */ (error).message;
      return null;
    }
  },

  /**
   * Have the treatment solved as it is. One request at a time; while one is under way only the
   * newest wish is kept.
   * @param {boolean} keep make it the clip's own: a new revision
   */
  async solve(keep) {
    if (!this.treatment) return;
    this.wish = { keep: keep || Boolean(this.wish?.keep), sliding: !keep && !this.wish?.keep };
    live.strip?.showKeys(this.keyFrames.map((frame) => frame - this.first));
    if (this.asking) return;
    this.asking = true;
    while (this.wish) {
      const wish = this.wish;
      this.wish = null;
      await this.ask(wish);
    }
    this.asking = false;
  },

  /** @param {Wish} wish */
  async ask({ keep, sliding }) {
    const slow = setTimeout(() => {
      this.working = "Working it out …";
    }, SILENT);
    try {
      const treatment = copyOf(this.treatment);
      const sent = JSON.stringify(treatment);
      const address = `${this.base}/treatment?near=${this.at}`;
      const answer = await post(address, { treatment, keep, sliding, revision: this.based });
      this.problem = "";
      if (keep) {
        this.kept = answer.treatment;
        this.based = answer.revision;
      }
      // Who changes something and asks later, as a fit of edges does, must not lose it.
      const ahead = sliding || JSON.stringify(this.treatment) !== sent;
      if (!this.wish) this.apply(answer, ahead);
    } catch (error) {
      this.problem = /** @type {Error} */ (error).message;
      this.working = "";
      if (this.kept) this.treatment = copyOf(this.kept);
      if (/** @type {{ status?: number }} */ (error).status === OVERTAKEN) await this.overtaken();
    } finally {
      clearTimeout(slow);
    }
  },

  /**
   * Take an answer over.
   * @param {Answer} answer
   * @param {boolean} [ahead] the treatment has changed since it was asked about: it stays
   */
  apply(answer, ahead = false) {
    this.waiting += 1;
    if (!ahead) {
      // The same treatment again must not disturb what is being typed.
      const same = JSON.stringify(answer.treatment) === JSON.stringify(this.treatment);
      if (!same) this.treatment = copyOf(answer.treatment);
      this.kept = answer.treatment;
    }
    const lines = Object.entries(answer.strip.keyed).map(([name, line]) => [name, unpack(line)]);
    if (answer.whole) this.keyedLines = Object.freeze(Object.fromEntries(lines));
    this.answer = Object.freeze(answer);
    this.answered += 1;
    this.note = answer.notes.join(" ");
    this.working = "";
    if (answer.solving) this.awaitRest(answer.solving);
  },

  /**
   * A worker is at the whole of a long clip, or follows a point; what is near is there already.
   * @param {Job} job
   */
  async awaitRest(job) {
    const mine = this.waiting;
    const wanted = () => mine === this.waiting;
    try {
      const done = await finished(
        job,
        (now) => {
          this.working = this.workingWords(now);
        },
        wanted,
        "The solve was cancelled.",
      );
      if (done) await this.ask({ keep: false, sliding: false });
    } catch (error) {
      this.problem = /** @type {Error} */ (error).message;
      this.working = "";
    }
  },

  /** @param {Job} job */
  workingWords(job) {
    const far = job.total ? ` ${Math.round((100 * job.done) / job.total)} %` : " …";
    if (this.treatment?.motion.aim === "hold" || this.treatment?.view.follow)
      return `Following the point${far}`;
    return `Solving all ${this.count} frames …`;
  },

  /** Somebody else changed the same thing: it is shown as it is now, and said why. */
  async overtaken() {
    const { problem } = this;
    this.wish = null;
    await this.refresh();
    this.problem = problem;
  },

  /** Everything as the server has it now. */
  async refresh() {
    const answer = await get(`${this.base}/solution?near=${this.at}`);
    this.based = answer.revision;
    // What others change from now on is theirs, and not taken back from here.
    headers["X-Since"] ??= String(answer.revision);
    this.apply(answer);
    // Not as something that slides: a worker is to find the rest.
    if (this.answer && !this.answer.whole) await this.ask({ keep: false, sliding: false });
  },

  /** @param {"undo" | "redo"} way */
  step(way) {
    return this.ready ? this.toRevision(way) : null;
  },

  /**
   * To another revision.
   * @param {string} way that the server is asked for under the clip's address
   */
  async toRevision(way) {
    this.going += 1;
    await this.guard(async () => {
      const answer = await post(`${this.base}/${way}?near=${this.at}`);
      this.based = answer.revision;
      this.apply(answer);
    });
    this.going -= 1;
  },

  /**
   * A picture decoded for tools that look closely at it; null if another frame is wanted by now.
   * @param {number} frame
   * @returns {Promise<{ edges: Place[][] } | null>}
   */
  lookAt(frame) {
    return this.guard(() =>
      settled(() => post(`${this.base}/lens/look`, { frame }), {
        work: (answer) => answer.work,
        wanted: () => live.clock.frame === frame,
        failed: "The picture could not be decoded.",
      }),
    );
  },

  // --- what the pointer does ---------------------------------------------------------------------

  /**
   * Take a tool in hand, or put it away.
   * @param {string} name
   */
  useTool(name) {
    this.tool = this.tool === name ? "" : name;
    live.pointer.use(this.tool);
    if (this.tool) live.clock.pause();
  },

  endTool() {
    this.tool = "";
    live.pointer.use("");
  },
});

shared("clip", makeClip());
