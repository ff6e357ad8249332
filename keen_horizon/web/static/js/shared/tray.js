// The job tray, on every screen; and day or night.
import { get, post } from "../lib/api.js";
import "../lib/choices.js";
import { component } from "../lib/component.js";
import { gaveUp, jobWords } from "../lib/wait.js";

// What is clicked before anybody listens would be lost: nothing can be, until the page is alive.
document.addEventListener("alpine:initialized", () => {
  document.getElementById("main")?.removeAttribute("inert");
});

const BUSY = 1000; // ms between looks while something is under way
const QUIET = 5000;

/** @param {Job} job */
function shown(job) {
  const exported = job.kind === "export";
  const there = job.state === "done" && job.clip !== null;
  return {
    ...job,
    words: jobWords(job),
    again: gaveUp(job),
    link: there ? `/clips/${job.clip}${exported ? "/exports" : ""}` : null,
    linkWords: exported ? "To the export" : "Open the clip",
  };
}

/** @param {Job[]} open */
function summary(open) {
  if (!open.length) return "Jobs";
  const running = open.find((job) => job.state === "running" && job.total);
  if (!running) return `${open.length} waiting`;
  if (running.ending) return running.title;
  return `${running.doing} ${Math.floor((100 * running.done) / running.total)} %`;
}

component("tray", () => ({
  open: false,
  /** @type {ReturnType<typeof shown>[]} */
  work: [],
  night: document.documentElement.dataset.bsTheme === "dark",
  busy: false,
  summary: "Jobs",
  problem: "",
  timer: 0,

  init() {
    this.look();
    document.addEventListener("keen:work", () => this.look());
  },

  async look() {
    clearTimeout(this.timer);
    try {
      /** @type {{ work: Job[] }} */
      const { work } = await get("/work");
      this.work = work.map(shown);
      const open = work.filter((job) => job.open);
      this.busy = open.length > 0;
      this.summary = summary(open);
    } catch {
      this.busy = false;
      this.summary = "No answer";
    }
    this.timer = window.setTimeout(() => this.look(), this.busy ? BUSY : QUIET);
  },

  toggle() {
    this.open = !this.open;
    if (this.open) this.look();
  },

  /** @param {Job} job */
  cancel(job) {
    return this.tell(`/work/${job.id}/cancel`);
  },

  /** @param {Job} job */
  retry(job) {
    return this.tell(`/work/${job.id}/retry`);
  },

  /** @param {string} address */
  async tell(address) {
    this.problem = "";
    try {
      await post(address);
    } catch (error) {
      this.problem = /** @type {Error} */ (error).message;
    }
    await this.look();
  },

  flip() {
    this.night = !this.night;
    const light = this.night ? "dark" : "light";
    try {
      localStorage.setItem("keen-light", light);
    } catch {
      // It is only not remembered.
    }
    document.documentElement.dataset.bsTheme = light;
    document.dispatchEvent(new Event("keen:light"));
  },
}));
