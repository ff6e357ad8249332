// The finished picture measured again, from its own pixels.
import { post } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { jobWords, settled } from "../../lib/wait.js";

component("finishedPicture", () => ({
  doing: "",
  asked: 0, // how often; an answer to an earlier question is not wanted

  get isMeasuring() {
    return Boolean(this.doing);
  },

  get words() {
    return this.doing || this.$store.clip.answer?.finished || "";
  },

  async measure() {
    const { clip } = this.$store;
    const { treatment } = clip;
    this.asked += 1;
    const mine = this.asked;
    this.doing = "A worker draws and measures the finished picture …";
    await clip.guard(() =>
      settled(() => post(`${clip.base}/finished`, { treatment }), {
        work: (answer) => answer.work,
        tell: (job) => {
          this.doing = `Drawing and measuring the finished picture: ${jobWords(job)}`;
        },
        wanted: () => mine === this.asked,
        failed: "The finished picture was not measured.",
      }),
    );
    this.doing = "";
    clip.refresh();
  },
}));
