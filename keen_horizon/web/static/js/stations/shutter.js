// Tools of the Shutter station: the readout time, found in the clip or known of a camera.
import { get, post } from "../lib/api.js";
import { component } from "../lib/component.js";

/** @typedef {{ id: number, readout: number, words: string }} Camera */

component("shutterTools", () => ({
  words: "",
  looking: false,
  /** @type {Camera[]} */
  cameras: [],
  name: "",
  asks: "", // what is missing, said at its field

  init() {
    this.$watch("$store.clip.station", (station) => {
      if (station === "shutter") this.open();
    });
  },

  async open() {
    await this.$store.clip.guard(async () => {
      this.cameras = (await get("/cameras")).cameras;
    });
  },

  async find() {
    const { clip } = this.$store;
    this.looking = true;
    this.words = "Looking at how rows and vibration go together …";
    const found = await clip.guard(() => post(`${clip.base}/readout`));
    this.looking = false;
    this.words = found ? found.words : "";
    if (found) clip.change("shutter.readout", found.ms);
  },

  async remember() {
    const { clip } = this.$store;
    const readout = clip.value("shutter.readout");
    if (!this.name.trim()) this.asks = "Give this camera a name first.";
    else if (!readout) this.asks = "Set its readout time first, above.";
    else this.asks = "";
    if (this.asks) {
      this.$refs.name.focus();
      return;
    }
    await clip.guard(async () => {
      this.cameras = (await post("/cameras", { name: this.name, readout })).cameras;
      this.name = "";
    });
  },

  /** @param {Camera} camera */
  use(camera) {
    this.$store.clip.change("shutter.readout", camera.readout);
  },
}));
