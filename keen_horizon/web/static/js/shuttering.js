// Shutter: the readout time, found and remembered. Mixed into the clip screen.
import { get, post } from "./api.js";

export const shuttering = {
  async findReadout() {
    this.readoutWords = "Looking …";
    await this.guard(async () => {
      const { ms, words } = await post(`${this.base}/readout`);
      this.readoutWords = words;
      this.treatment.shutter.readout = ms;
      this.solve(true);
    });
    if (this.problem) this.readoutWords = "";
  },

  async openShutter() {
    this.station = "shutter";
    await this.guard(async () => { this.cameras = (await get("/cameras")).cameras; });
  },

  async rememberCamera() {
    await this.guard(async () => {
      const { readout } = this.treatment.shutter;
      this.cameras = (await post("/cameras", { name: this.cameraName, readout })).cameras;
      this.cameraName = "";
    });
  },

  useCamera(camera) {
    this.treatment.shutter.readout = camera.readout;
    this.solve(true);
  },
};
