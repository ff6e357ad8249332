// Marks: what they do, which move together, and setting them aside.
import { get, post, unpack, unpackNumbers } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { finished, jobWords } from "../../lib/wait.js";
import { live } from "../../clip/live.js";

const CHUNK = 60; // frames of marks asked for at once
const KEPT = 1800; // frames of marks kept
const LASSO = "lasso";
const CORNERS = 80; // of a lasso, at most
const SMALLEST = 24; // css px across: less is a slip of the hand

/** @typedef {{ index: number, words: string, when: string, speed: string, subject: Subject, aside: boolean, only: boolean }} Group */
/** @typedef {{ index: number, words: string, when: string, frame: number }} Named */

/**
 * An answer's group or subject without its marks, which are kept as a set.
 * @param {any} told
 * @param {number} index
 */
const plain = ({ marks: _marks, ...rest }, index) => ({ ...rest, index });

/** @param {{ marks: string }} told */
const marksOf = (told) => new Set(unpackNumbers(told.marks));

component("marksOverlay", () => ({
  /** @type {number | null} first frame of what is being fetched */
  fetching: null,
  steering: "", // what the marks shown depend on

  init() {
    const { clip, view } = this.$store;
    window.Alpine.effect(() => {
      const steering = clip.answer?.whole ? clip.answer.keys.motion : this.steering;
      if (steering !== this.steering) this.renew(steering);
    });
    window.Alpine.effect(() => {
      if (view.marks && clip.ready) this.fetch(clip.at);
    });
  },

  /**
   * What the marks do has changed: with the treatment, or for the first time.
   * @param {string} steering
   */
  renew(steering) {
    this.steering = steering;
    this.fetching = null;
    live.stage.markings.clear();
    if (this.$store.view.marks) this.fetch(this.$store.clip.at);
  },

  /** @param {number} at frame of the range */
  async fetch(at) {
    const { clip } = this.$store;
    const { markings } = live.stage;
    const chunk = Math.floor(at / CHUNK) * CHUNK;
    if (markings.sets.has(at) || this.fetching === chunk) return;
    this.fetching = chunk;
    if (markings.sets.size > KEPT) markings.clear();
    const to = Math.min(clip.count - 1, chunk + CHUNK - 1);
    const { steering } = this;
    await clip.guard(async () => {
      const { first, counts, marks } = await get(`${clip.base}/marks?from=${chunk}&to=${to}`);
      if (steering !== this.steering) return;
      const all = unpack(marks);
      let start = 0;
      counts.forEach((/** @type {number} */ count, /** @type {number} */ i) => {
        markings.put(first + i, all.subarray(4 * start, 4 * (start + count)));
        start += count;
      });
      live.stage.draw();
    });
    this.fetching = null;
  },
}));

component("marksTools", () => ({
  looking: false,
  /** @type {Group[]} */
  groups: [],
  /** @type {Named[]} */
  asides: [],
  /** @type {Named | null} */
  only: null,
  /** @type {{ group: number, words: string } | null} */
  advice: null,
  /** @type {Set<number>[]} */
  groupMarks: [],
  /** @type {Set<number>[]} */
  asideMarks: [],
  /** @type {number | null} */
  lit: null,
  steering: "", // what the groups shown depend on

  init() {
    const { clip } = this.$store;
    const { pointer } = live;
    if (!pointer) return;
    pointer.add(LASSO, this.lassoing());
    pointer.hovered = (spot) => this.hover(spot);
    window.Alpine.effect(() => {
      const wanted = clip.folds.marks && clip.answer?.whole ? clip.answer.keys.motion : "";
      if (wanted && wanted !== this.steering) this.fetch(wanted);
    });
    this.$watch("$store.clip.folds.marks", (open) => {
      if (open && !this.$store.view.marks) this.$store.view.toggle("marks");
    });
  },

  /** @param {string} steering */
  async fetch(steering) {
    const { clip } = this.$store;
    this.steering = steering;
    this.looking = true;
    await clip.guard(async () => {
      const answer = await get(`${clip.base}/groups`);
      if (steering !== this.steering) return;
      this.groupMarks = answer.groups.map(marksOf);
      this.asideMarks = answer.aside.map(marksOf);
      this.groups = answer.groups.map(plain);
      this.asides = answer.aside.map(plain);
      this.only = answer.only ? plain(answer.only, 0) : null;
      this.advice = answer.advice;
      const { groupOf } = live.stage.markings;
      groupOf.clear();
      this.groupMarks.forEach((set, i) => set.forEach((id) => groupOf.set(id, i)));
    });
    this.looking = false;
  },

  get words() {
    const said = [
      this.steering ? `${this.groups.length} groups` : "",
      this.asides.length ? `${this.asides.length} set aside` : "",
      this.only ? "one steers" : "",
    ];
    return said.filter(Boolean).join(" · ");
  },

  get groupWords() {
    if (this.looking) return "Looking which marks move together …";
    if (this.groups.length) return "Marks that move together, otherwise than the camera:";
    return this.steering ? "Everything moves as the camera has it move." : "";
  },

  get onlyWords() {
    return this.only ? `${this.only.words} · ${this.only.when}` : "";
  },

  // --- lighting ----------------------------------------------------------------------------------

  /** @param {Spot | null} spot */
  hover(spot) {
    if (!this.$store.view.marks || !this.groups.length) return;
    const found = spot && live.stage.markings.groupNear(spot);
    if (found !== this.lit) this.light(found);
  },

  /** @param {number | null} index */
  light(index) {
    this.lit = index;
    this.lightSet(index === null ? null : this.groupMarks[index]);
  },

  /** @param {number} index */
  lightAside(index) {
    this.lightSet(this.asideMarks[index]);
  },

  /** @param {Set<number> | null} set */
  lightSet(set) {
    live.stage.markings.lit = set;
    live.stage.drawOver();
  },

  /** @param {Group} group */
  look(group) {
    return this.lit === group.index ? "is-lit" : "";
  },

  // --- setting aside -----------------------------------------------------------------------------

  /** @param {Group} group */
  setAside(group) {
    this.$store.clip.edit(({ motion }) => motion.aside.push(group.subject));
  },

  takeAdvice() {
    if (this.advice) this.setAside(this.groups[this.advice.group]);
  },

  /** @param {Group} group */
  steerOnly(group) {
    this.$store.clip.change("motion.steer_by", group.only ? null : group.subject);
  },

  allSteer() {
    this.$store.clip.change("motion.steer_by", null);
  },

  /** @param {Named} one */
  putBack(one) {
    this.lightSet(null);
    this.$store.clip.edit(({ motion }) => motion.aside.splice(one.index, 1));
  },

  /** @param {Named} one */
  goTo(one) {
    this.$store.clip.go(one.frame);
  },

  // --- the lasso ---------------------------------------------------------------------------------

  get isLassoing() {
    return this.$store.clip.tool === LASSO;
  },

  lasso() {
    const { clip, view } = this.$store;
    clip.useTool(LASSO);
    if (clip.tool && !view.marks) view.toggle("marks");
  },

  /** @returns {Tool} */
  lassoing() {
    const { overlay } = live.stage;
    return {
      down: (spot) => {
        overlay.lasso = [spot];
      },
      move: (spot) => {
        overlay.lasso?.push(spot);
        live.stage.drawOver();
      },
      up: () => {
        const path = overlay.lasso ?? [];
        overlay.lasso = null;
        this.$store.clip.endTool();
        this.endLasso(path);
      },
      cancel: () => {
        overlay.lasso = null;
        live.stage.drawOver();
      },
    };
  },

  /** @param {Spot[]} path */
  endLasso(path) {
    live.stage.drawOver();
    /** @param {0 | 1} axis */
    const wide = (axis) =>
      Math.max(...path.map((p) => p[axis])) - Math.min(...path.map((p) => p[axis]));
    const small = Math.max(wide(0), wide(1)) < SMALLEST * live.stage.ratio;
    if (path.length < 3 || small) return;
    const every = Math.ceil(path.length / CORNERS);
    /** @param {number} value */
    const round = (value) => Math.round(Math.max(-0.5, Math.min(1.5, value)) * 1e4) / 1e4;
    const outline = /** @type {Place[]} */ (
      path.filter((_, i) => i % every === 0).map((spot) => live.stage.sourceAt(spot).map(round))
    );
    if (outline.length < 3) return;
    const { frame } = live.clock;
    this.$store.clip.edit(({ motion }) => motion.aside.push({ kind: "lasso", frame, outline }));
  },
}));

component("marksLook", () => ({
  /** @param {Event} event */
  sizeDots(event) {
    this.set("dotSize", event);
  },

  /** @param {Event} event */
  lengthenTrails(event) {
    this.set("trail", event);
  },

  /**
   * @param {"dotSize" | "trail"} name
   * @param {Event} event
   */
  set(name, event) {
    const value = Number(/** @type {HTMLInputElement} */ (event.target).value);
    this.$store.view.set(name, value);
  },
}));

component("closerMeasure", () => ({
  wanted: false,
  words: "",
  waiting: 0,

  init() {
    this.$watch("$store.clip.ready", (ready) => {
      const { state } = this.$store.clip;
      if (ready && state?.closer) this.take(state.closer);
    });
  },

  /** @param {Event} event */
  async want(event) {
    const wanted = /** @type {HTMLInputElement} */ (event.target).checked;
    await this.ask({ wanted });
  },

  /** @param {{ wanted?: boolean }} asked */
  async ask(asked) {
    const { clip } = this.$store;
    await clip.guard(async () => {
      this.take(await post(`${clip.base}/closer`, asked));
      await clip.refresh(); // it is used as soon as it is there, and no longer when it is not wanted
    });
  },

  /** @param {Closer} closer */
  async take({ wanted, there, seconds, work }) {
    const mine = ++this.waiting;
    this.wanted = wanted;
    const about = seconds === null ? "" : `, about ${Math.max(1, Math.round(seconds))} s`;
    if (there) this.words = wanted ? "In use." : "Is there.";
    else if (!wanted) this.words = `More marks, finer${about}.`;
    if (!wanted || there || !work) return;
    document.dispatchEvent(new Event("keen:work"));
    try {
      const tell = (/** @type {Job} */ job) => {
        const far = job.total ? `: ${jobWords(job)}` : " …";
        this.words = `Measuring${far} The first stays in use.`;
      };
      const current = () => mine === this.waiting;
      if (await finished(work, tell, current, "It was cancelled.")) await this.ask({});
    } catch (error) {
      this.words = /** @type {Error} */ (error).message;
    }
  },
}));
