// The shelf: shoots and their clips; naming, removing, putting back.
import { call, get, post } from "../lib/api.js";
import { component } from "../lib/component.js";
import { jobWords } from "../lib/wait.js";
import { filesOf } from "./dropped.js";
import { upload } from "./upload.js";

const BUSY = 1000; // ms between looks while something is under way
const QUIET = 6000;

/**
 * @typedef {object} Card
 * @property {number} id
 * @property {string} name
 * @property {string} weight
 * @property {string} format
 * @property {string} length
 * @property {string} state
 * @property {string | null} refusal
 * @property {string | null} poster
 * @property {Job | null} work
 * @property {Job | null} failed
 * @property {{ before: string, after: string, kept: number | null } | null} shake
 */

/**
 * A card with the words that stand on it.
 * @param {Card} card
 */
function described(card) {
  const progress = card.work ? jobWords(card.work) : "";
  const share = card.work ? null : (card.shake?.kept ?? null);
  const kept = share === null ? "" : `, keeps ${share.toFixed(0)} %`;
  return {
    ...card,
    facts: [card.format, card.weight].filter(Boolean).join(" · "),
    progress,
    stateWords: card.work ? `${card.state}: ${progress}` : `${card.state}${kept}`,
    failure: (!card.refusal && card.failed?.message) || "",
    shakeWords: card.shake ? shakeWords(card.shake) : "",
  };
}

/**
 * Shake before and after; where that is too long for a card, it goes on with the arrow.
 * @param {{ before: string, after: string }} shake
 */
function shakeWords({ before, after }) {
  return [`shake ${before}`, `→ ${after}`].map((part) => part.replaceAll(" ", "\u00a0")).join(" ");
}

/** @typedef {{ id: number, name: string, clips: ReturnType<typeof described>[] }} Shoot */
/** @typedef {import("./upload.js").Upload} Upload */

component("shelf", () => ({
  /** @type {Shoot[]} */
  shoots: [],
  /** @type {Upload[]} */
  uploads: [],
  loaded: false,
  problem: "",
  /** @type {{ address: string, words: string } | null} */
  removed: null,
  over: false,
  fresh: "",
  asks: "",
  limit: 0,
  timer: 0,

  init() {
    this.limit = Number(this.$root.dataset.limit);
    this.look();
  },

  async look() {
    clearTimeout(this.timer);
    let busy = false;
    try {
      const { shoots } = await get("/shelf.json");
      const told = shoots.map((/** @type {any} */ shoot) => ({
        ...shoot,
        clips: shoot.clips.map(described),
      }));
      busy = told.some((/** @type {Shoot} */ shoot) => shoot.clips.some((one) => one.work));
      // Do not pull a name away from under somebody who is typing it.
      if (!document.activeElement?.classList.contains("plain")) this.shoots = told;
      this.loaded = true;
    } catch (error) {
      this.problem = /** @type {Error} */ (error).message;
    }
    this.timer = window.setTimeout(() => this.look(), busy ? BUSY : QUIET);
  },

  /**
   * @template T
   * @param {() => Promise<T>} action
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

  /** @param {Shoot} shoot */
  countWords(shoot) {
    return shoot.clips.length === 1 ? "1 clip" : `${shoot.clips.length} clips`;
  },

  // --- files -------------------------------------------------------------------------------------

  /** @param {Shoot} shoot */
  uploadsOf(shoot) {
    return this.uploads.filter((up) => up.shoot === shoot.id);
  },

  /** @param {DragEvent} event */
  leave(event) {
    if (!event.relatedTarget) this.over = false;
  },

  /** @param {Event} event */
  openPicker(event) {
    const button = /** @type {HTMLElement} */ (event.currentTarget);
    /** @type {HTMLElement} */ (button.nextElementSibling).click();
  },

  /**
   * @param {Event} event dropped or chosen
   * @param {Shoot} shoot
   */
  async bring(event, shoot) {
    this.over = false;
    const files = await this.guard(() => filesOf(event));
    if (files) await this.add(files, shoot);
  },

  /**
   * To the first shoot, which is made if there is none.
   * @param {Event} event dropped beside the shoots, or chosen where there is none
   */
  async bringAnywhere(event) {
    this.over = false;
    const files = (await this.guard(() => filesOf(event))) ?? [];
    if (!files.length) return;
    if (!this.shoots.length) {
      await this.guard(() => post("/shoots", { name: "First shoot" }));
      await this.look();
    }
    if (this.shoots.length) this.add(files, this.shoots[0]);
  },

  /**
   * @param {File[]} files
   * @param {Shoot} shoot
   */
  async add(files, shoot) {
    const added = [];
    for (const file of files) {
      const clip = await this.send(file, shoot);
      if (clip) added.push(clip);
    }
    // One file dropped: go and watch it become steady.
    if (files.length === 1 && added.length === 1) location.href = `/clips/${added[0]}`;
    else await this.look();
  },

  /**
   * @param {File} file
   * @param {Shoot} shoot
   */
  async send(file, shoot) {
    const key = `${Date.now()}-${Math.random()}`;
    this.uploads.push({
      key,
      shoot: shoot.id,
      name: file.name,
      size: file.size,
      sent: 0,
      words: "0 %",
      problem: "",
      paused: false,
      stop: () => {},
      pause: () => {},
    });
    const up = this.uploads[this.uploads.length - 1];
    const clip = await upload(file, up, this.limit);
    if (!up.problem) this.forget(up);
    if (clip) document.dispatchEvent(new Event("keen:work"));
    return clip;
  },

  /** @param {Upload} up */
  forget(up) {
    this.uploads = this.uploads.filter((other) => other.key !== up.key);
  },

  /** @param {Upload} up */
  rest(up) {
    up.pause();
  },

  /** @param {Upload} up */
  dismiss(up) {
    if (!up.problem) up.stop();
    this.forget(up);
  },

  // --- naming and removing -------------------------------------------------------------------------

  async addShoot() {
    this.asks = this.fresh.trim() ? "" : "Give the shoot a name first.";
    if (this.asks) {
      this.$refs.fresh.focus();
      return;
    }
    if (await this.guard(() => post("/shoots", { name: this.fresh }))) this.fresh = "";
    await this.look();
  },

  /**
   * @param {Shoot} shoot
   * @param {Event} event
   */
  renameShoot(shoot, event) {
    return this.rename(`/shoots/${shoot.id}`, shoot, event);
  },

  /**
   * @param {Card} clip
   * @param {Event} event
   */
  renameClip(clip, event) {
    return this.rename(`/clips/${clip.id}`, clip, event);
  },

  /**
   * @param {string} address
   * @param {{ name: string }} thing
   * @param {Event} event
   */
  async rename(address, thing, event) {
    const input = /** @type {HTMLInputElement} */ (event.target);
    const answer = await this.guard(() => call("PATCH", address, { name: input.value }));
    if (answer) thing.name = answer.name;
    input.value = thing.name;
  },

  /** @param {Card} clip */
  removeClip(clip) {
    return this.remove(`/clips/${clip.id}`);
  },

  /** @param {Shoot} shoot */
  removeShoot(shoot) {
    return this.remove(`/shoots/${shoot.id}`);
  },

  /** @param {string} address */
  async remove(address) {
    const answer = await this.guard(() => call("DELETE", address));
    if (answer) this.removed = { address, words: `${answer.removed} was taken off the shelf.` };
    await this.look();
  },

  async putBack() {
    const { removed } = this;
    if (removed) await this.guard(() => post(`${removed.address}/put-back`));
    this.removed = null;
    await this.look();
  },

  /** @param {Card} clip */
  async retry(clip) {
    await this.guard(() => post(`/work/${clip.failed?.id}/retry`));
    await this.look();
  },
}));
