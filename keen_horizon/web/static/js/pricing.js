// What more or less calm would cost, asked for in the background. Mixed into the clip screen.
import { gaveUp, post } from "./api.js";
import { Chart } from "./chart.js";
import { parts } from "./parts.js";

export const pricing = {
  holdChart() {
    parts.chart = new Chart(this.$refs.chart, (calm, settled) => {
      this.treatment.motion.calm = calm;
      this.reflect();
      this.solve(settled);
    });
  },

  // The curve of the treatment that is kept. It changes with everything but the calm.
  async price() {
    const { shutter, motion, frame, keys } = this.treatment;
    const wanted = JSON.stringify([this.firstFrame, this.lastFrame, { ...motion, calm: 0, on: true }, shutter, frame, keys, this.versions.map((version) => version.name)]);
    if (this.priced === wanted || !this.linked) return;
    this.priced = wanted;
    this.starts = [];
    this.curveWords = "Pricing …";
    const body = { treatment: JSON.parse(JSON.stringify(this.treatment)) };
    try {
      for (let more = true; more;) {
        const answer = await post(`${this.base}/cost`, body);
        if (this.priced !== wanted) return;
        parts.chart.set(answer);
        this.starts = answer.starts;
        if (answer.points.length > 1) this.curveWords = "";
        if (gaveUp(answer.work)) throw new Error(answer.work.message || "The pricing was cancelled.");
        more = answer.more;
        if (answer.work) await new Promise((resolve) => { setTimeout(resolve, 700); });
      }
    } catch (error) {
      this.curveWords = error.message;
      this.priced = ""; // the next change asks again
    }
  },

  startAt(start) {
    this.treatment.motion.calm = start.calm;
    this.treatment.motion.on = true;
    this.solve(true);
  },

  isStart(start) {
    return this.motionOn && this.calm === start.calm;
  },
};
