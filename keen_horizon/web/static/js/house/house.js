// The house: who works, on what, how much room is left, what failed.
import { get, post } from "../lib/api.js";
import { component } from "../lib/component.js";
import { jobWords } from "../lib/wait.js";

const EVERY = 3000; // ms between looks

/** @typedef {Job & { story: string }} Told */
/** @param {Told} job */
const worded = (job) => ({
  ...job,
  words: [`no. ${job.id}`, job.open ? jobWords(job) : "", job.story].filter(Boolean).join(" · "),
});

component("house", () => ({
  told: false,
  workers: 0,
  workerWords: "",
  /** @type {ReturnType<typeof worded>[]} */
  work: [],
  /** @type {{ title: string, words: string }[]} */
  pace: [],
  /** @type {ReturnType<typeof worded>[]} */
  failures: [],
  /** @type {{ name: string, size: string }[]} */
  shoots: [],
  roomWords: "",
  low: false,
  binned: 0,
  binWords: "",
  sure: false,
  words: "",
  problem: "",
  timer: 0,

  init() {
    this.look();
  },

  destroy() {
    window.clearTimeout(this.timer);
  },

  async look() {
    window.clearTimeout(this.timer);
    try {
      const told = await get("/house.json");
      this.work = told.work.map(worded);
      this.failures = told.failures.map(worded);
      this.pace = told.pace;
      this.workers = told.workers.length;
      const many = this.workers === 1 ? "1 worker" : `${this.workers} workers`;
      this.workerWords = this.workers
        ? `${many}: ${told.workers.join(", ")}.`
        : "No worker has been heard of for 20 seconds: what is asked for waits.";
      const { room, bin } = told;
      this.shoots = room.shoots;
      this.low = room.low;
      this.roomWords = `${room.free} of ${room.whole} free${room.low ? ": that is little" : ""}.`;
      this.binned = bin.count;
      const clips = bin.count === 1 ? "1 clip" : `${bin.count} clips`;
      this.binWords = bin.count
        ? `${clips} removed, ${bin.size} with recordings and exports.`
        : "Nothing is removed.";
      this.told = true;
      this.problem = "";
    } catch (error) {
      this.problem = error instanceof Error ? error.message : String(error);
    }
    this.timer = window.setTimeout(() => this.look(), EVERY);
  },

  ask() {
    this.sure = true;
  },

  keep() {
    this.sure = false;
  },

  async empty() {
    this.sure = false;
    this.words = "Letting it go …";
    try {
      this.words = (await post("/house/empty", {})).words;
    } catch (error) {
      this.words = "";
      this.problem = error instanceof Error ? error.message : String(error);
    }
    this.look();
  },
}));
