// Copying stations of the treatment to other clips of the shoot.
import { get, post } from "../../lib/api.js";
import { component } from "../../lib/component.js";

/** @typedef {{ key: any, name: string, on: boolean }} Ticked */

/** @param {Ticked[]} ticked */
const chosen = (ticked) => ticked.filter((one) => one.on).map((one) => one.key);

component("copying", () => ({
  /** @type {Ticked[]} */
  stations: [],
  /** @type {Ticked[]} */
  clips: [],
  words: "",

  init() {
    const { clip } = this.$store;
    window.Alpine.effect(() => {
      if (clip.ready && clip.folds.copy) this.open();
    });
  },

  async open() {
    const { clip } = this.$store;
    this.words = "";
    await clip.guard(async () => {
      const { clips } = await get(`${clip.base}/others`);
      this.clips = clips.map((/** @type {{ id: number, name: string }} */ other) => ({
        key: other.id,
        name: other.name,
        on: false,
      }));
      const titles = JSON.parse(this.$root.dataset.stations ?? "[]");
      this.stations = titles.map((/** @type {string[]} */ [key, name]) => ({
        key,
        name,
        on: true,
      }));
      if (!clips.length) this.words = "This shoot has no other clip.";
    });
  },

  async copy() {
    const { clip } = this.$store;
    const to = chosen(this.clips);
    const stations = chosen(this.stations);
    if (!stations.length) this.words = "Tick a station to copy.";
    else if (!to.length) this.words = "Tick a clip to copy to.";
    else {
      this.words = "Copying …";
      await clip.guard(async () => {
        const { names } = await post(`${clip.base}/copy`, { to, stations });
        this.words = `Copied to ${names.join(", ")}. Undo there takes it back.`;
      });
      if (clip.problem) this.words = "";
    }
  },
}));
