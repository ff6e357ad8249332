// A loop as an export draws it, at full size, played over the stage: recorded or treated.
import { post } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { jobWords, settled } from "../../lib/wait.js";
import { live } from "../live.js";

component("exactLoop", () => ({
  /** @type {Record<string, string> | null} addresses of the films */
  films: null,
  /** @type {object | null} whose treatment they show */
  answer: null,
  /** @type {[number, number] | null} */
  stretch: null,
  busy: false,
  turn: 0, // of asking: what an earlier one comes to is not wanted any more

  init() {
    window.Alpine.effect(() => {
      const { clip, view } = this.$store;
      // Films of another treatment, or of another stretch, are no longer exact.
      const now = { on: view.exactLoop, answer: clip.answer, loop: clip.loop };
      queueMicrotask(() => this.changed(now));
    });
    window.Alpine.effect(() => {
      const shown = [this.films, this.original];
      if (shown[0]) queueMicrotask(() => this.meet());
    });
  },

  /** @param {{ on: boolean, answer: Answer | null, loop: [number, number] | null }} now */
  changed({ on, answer, loop }) {
    const known = this.films || this.busy;
    const same = this.answer === window.Alpine.raw(answer) && String(loop) === String(this.stretch);
    if (known && !(on && same)) this.close();
    else if (on && !known) this.draw();
  },

  get playing() {
    return Boolean(this.films);
  },

  get words() {
    const { view } = this.$store;
    if (!this.stretch) return "";
    const which = this.original ? "recorded" : "as an export draws them";
    const [first, last] = this.stretch;
    return `Frames ${first} to ${last}, ${which}${view.peek ? "" : "; O shows the original"}`;
  },

  get original() {
    const { view } = this.$store;
    return view.peek || view.mode === "original";
  },

  get recordedLook() {
    return this.original ? "" : "is-behind";
  },

  get treatedLook() {
    return this.original ? "is-behind" : "";
  },

  /** Both films at the same place, before the other one is looked at. */
  meet() {
    const films = /** @type {HTMLVideoElement[]} */ ([this.$refs.recorded, this.$refs.treated]);
    const [hidden, shown] = this.original ? films.reverse() : films;
    if (shown.readyState) shown.currentTime = hidden.currentTime;
  },

  get recordedFilm() {
    return this.films?.recorded ?? null;
  },

  get treatedFilm() {
    return this.films?.treated ?? null;
  },

  async draw() {
    const { clip, view } = this.$store;
    if (!clip.loop) {
      view.exactLoop = false;
      return;
    }
    const stretch = /** @type {[number, number]} */ ([...clip.loop]);
    this.answer = window.Alpine.raw(clip.answer);
    this.stretch = stretch;
    this.busy = true;
    this.turn += 1;
    const { turn } = this;
    view.exactWords = "Drawing the loop exactly …";
    const [first, last] = stretch;
    const asked = { treatment: clip.treatment, first, last };
    const found = await clip.guard(() =>
      settled(() => post(`${clip.base}/exact/loop`, asked), {
        work: (one) => one.work,
        wanted: () => view.exactLoop && this.turn === turn,
        tell: (job) => {
          view.exactWords = `Drawing the loop exactly: ${jobWords(job)}`;
        },
        failed: "The loop was not drawn.",
      }),
    );
    if (this.turn !== turn) return;
    this.busy = false;
    view.exactWords = "";
    if (!found?.films) {
      this.close();
      return;
    }
    live.clock.pause();
    this.films = found.films;
  },

  close() {
    this.turn += 1;
    this.films = null;
    this.stretch = null;
    this.busy = false;
    this.$store.view.exactLoop = false;
    this.$store.view.exactWords = "";
  },

  /** The pixels under the pointer, at their own size. @param {PointerEvent} event */
  follow(event) {
    const box = this.$root.getBoundingClientRect();
    const share = [
      (event.clientX - box.left) / box.width,
      (event.clientY - box.top) / box.height,
    ].map((value) => `${(100 * Math.max(0, Math.min(1, value))).toFixed(1)}%`);
    for (const film of [this.$refs.recorded, this.$refs.treated]) {
      film.style.objectPosition = share.join(" ");
    }
  },
}));
