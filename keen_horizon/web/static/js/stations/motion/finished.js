// The finished picture measured again, from its own pixels.
import { post } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { jobWords, settled } from "../../lib/wait.js";

component("finishedPicture", () => ({
  doing: "",

  get isMeasuring() {
    return Boolean(this.doing);
  },

  get words() {
    return this.doing || this.$store.clip.answer?.finished || "";
  },

  async measure() {
    const { clip } = this.$store;
    // As it is now: whoever goes on editing means another picture.
    const asked = JSON.stringify(clip.treatment);
    const treatment = JSON.parse(asked);
    this.doing = "A worker draws and measures the finished picture …";
    const told = await clip.guard(() =>
      settled(() => post(`${clip.base}/finished`, { treatment }), {
        work: (answer) => answer.work,
        tell: (job) => {
          this.doing = `Drawing and measuring the finished picture: ${jobWords(job)}`;
        },
        failed: "The finished picture was not measured.",
      }),
    );
    this.doing = "";
    if (told && clip.answer && JSON.stringify(clip.treatment) === asked) {
      clip.answer = Object.freeze({ ...clip.answer, finished: told.words });
    }
  },
}));
