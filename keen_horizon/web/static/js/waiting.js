// What stands over the picture while a clip is taken in or measured. Mixed into the clip screen.
import { gaveUp, jobWords, post } from "./api.js";

export const waiting = {
  wait(state) {
    const work = state.work;
    const titles = { refused: "This file was refused", "taking in": "Taking the file in", measuring: "Measuring the camera's motion" };
    this.waitTitle = titles[state.phase];
    const words = { measuring: "Once; changing settings will not need it again.", "taking in": "Checking it and making a proxy to play." };
    this.waitWords = state.refusal || words[state.phase] || "";
    this.waitRetry = gaveUp(work) && state.phase !== "refused";
    if (this.waitRetry) this.waitWords = work.message || jobWords(work);
    this.waitCancel = Boolean(work && work.open && state.phase === "measuring");
    this.waitTotal = work && work.open ? work.total || 1 : 0;
    this.waitDone = work ? work.done : 0;
    this.waitFrames = work && work.open ? jobWords(work) : "";
    this.waitWork = work;
  },

  async retryWait() {
    await this.guard(() => post(`/work/${this.waitWork.id}/retry`));
    this.look();
  },

  async cancelWait() {
    await this.guard(() => post(`/work/${this.waitWork.id}/cancel`));
    this.look();
  },
};
