// The lens cabinet: lenses that are known, used here, kept, changed and taken out.
import { call, get, post, send } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { adoptLens } from "./adopt.js";

/**
 * @typedef {object} Lens
 * @property {number} id
 * @property {string} name
 * @property {string} words
 * @property {string} refusal why it does not fit this clip
 * @property {boolean} suggested
 * @property {Record<string, any>} settings
 * @property {Record<string, any> | null} glass settings of its glass, if anything is known of it
 */

component("lensCabinet", () => ({
  /** @type {Lens[]} */
  lenses: [],
  loaded: false,
  name: "",
  camera: "",
  lens: "",
  mode: "",
  asks: "", // what is missing, said at its field

  init() {
    const { clip } = this.$store;
    window.Alpine.effect(() => {
      if (clip.ready && clip.station === "lens" && clip.tabs.lens === "cabinet") this.open();
    });
  },

  async open() {
    const { clip } = this.$store;
    await clip.guard(async () => this.take(await get(`${clip.base}/lenses`)));
  },

  /** @param {{ lenses: Lens[], camera: string }} answer */
  take({ lenses, camera }) {
    this.lenses = lenses;
    this.loaded = true;
    if (!this.camera) this.camera = camera;
  },

  get words() {
    if (!this.loaded || this.lenses.length) return "";
    return "The cabinet is empty. Find a lens, then keep it here for every clip of its camera.";
  },

  /** @param {Lens} lens */
  isUsed(lens) {
    return this.$store.clip.treatment?.lens.profile === lens.id;
  },

  /** @param {Lens} lens */
  look(lens) {
    return this.isUsed(lens) ? "is-lit" : "";
  },

  /** @param {Lens} lens */
  useWords(lens) {
    return this.isUsed(lens) ? "In use" : "Use";
  },

  /** @param {Lens} lens */
  isRefused(lens) {
    return Boolean(lens.refusal);
  },

  get hasLens() {
    return (this.$store.clip.treatment?.lens.model ?? "rectilinear") !== "rectilinear";
  },

  get hasNone() {
    return !this.hasLens;
  },

  /** @param {Lens} lens */
  use(lens) {
    adoptLens(this.$store.clip, lens.settings, true, lens.glass);
  },

  follow() {
    const { answer } = this.$store.clip;
    if (!answer?.newer) return;
    adoptLens(this.$store.clip, answer.newer.settings, true, answer.newer.glass);
  },

  async keep() {
    this.asks = this.name.trim() ? "" : "Give this lens a name first.";
    if (this.asks) {
      this.$refs.name.focus();
      return;
    }
    const { name, camera, lens, mode } = this;
    if (await this.change({ name, camera, lens, mode })) this.name = "";
  },

  /** @param {Lens} lens */
  replace(lens) {
    return this.change({ instead_of: lens.id });
  },

  /**
   * Put this clip's lens into the cabinet; the clip's treatment has a new revision then.
   * @param {Record<string, unknown>} told
   */
  change(told) {
    const { clip } = this.$store;
    return clip.guard(async () => {
      const answer = await post(`${clip.base}/lenses`, told);
      await clip.refresh();
      this.take(answer);
      return true;
    });
  },

  /** @param {Lens} lens */
  async drop(lens) {
    const { clip } = this.$store;
    await clip.guard(async () => {
      this.take(await call("DELETE", `${clip.base}/lenses/${lens.id}`));
    });
  },

  /** @param {Event} event */
  async importLens(event) {
    const input = /** @type {HTMLInputElement} */ (event.target);
    const file = input.files?.[0];
    input.value = "";
    const { clip } = this.$store;
    if (!file) return;
    await clip.guard(async () => this.take(await send(`${clip.base}/lenses/import`, file)));
  },
}));
