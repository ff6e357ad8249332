// The clip screen as a whole: opening the clip, and looking again until it is there.
import { get, post, unpackTimes } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { gaveUp } from "../../lib/wait.js";
import { live } from "../live.js";

const AGAIN = 500; // ms between looks at a clip that is not ready
const AFTER_TROUBLE = 3000;

component("clipPage", () => ({
  timer: 0,
  timed: false,

  async init() {
    const { clip, view } = this.$store;
    clip.base = `/clips/${this.$root.dataset.clip}`;
    clip.aids = (this.$root.dataset.aids ?? "").split(" ");
    window.keen = Object.assign(live, { clip, view }); // for tests and the curious
    this.$watch("$store.clip.state", (state) => clip.guard(() => this.take(state)));
    await this.$nextTick(); // the stage and the strip are made by their panels
    if (live.stage) await this.look();
  },

  async look() {
    clearTimeout(this.timer);
    const { clip } = this.$store;
    try {
      clip.state = Object.freeze(await post(`${clip.base}/open`));
    } catch (error) {
      clip.problem = /** @type {Error} */ (error).message;
      this.timer = window.setTimeout(() => this.look(), AFTER_TROUBLE);
    }
  },

  /** @param {ClipState} state */
  async take(state) {
    const { clip } = this.$store;
    // What kind of clip it is, is known once it has been taken in; the page is made for one kind.
    if (state.kind && state.kind !== this.$root.dataset.kind) {
      window.location.reload();
      return;
    }
    if (state.frame_count) await this.takeRecording(state);
    if (state.phase === "ready") {
      if (!clip.ready) await this.open();
      return;
    }
    clip.ready = false;
    if (state.phase === "choosing") await this.lookAhead();
    const over = state.phase === "refused" || gaveUp(state.work);
    if (!over) this.timer = window.setTimeout(() => this.look(), AGAIN);
  },

  /** @param {ClipState} state */
  async takeRecording(state) {
    const { clip } = this.$store;
    const { clock, stage } = live;
    const moved = state.first !== clip.first || state.last !== clip.last;
    if (moved || !clip.frameCount) {
      clip.ready = false;
      clip.answer = null;
    }
    clip.frameCount = state.frame_count ?? 0;
    clip.first = clock.first = state.first;
    clip.last = clock.last = state.last;
    stage.source = { width: state.width, height: state.height, aspect: state.pixel_aspect };
    if (!clip.ready && !clip.answer) stage.untreated(); // something to look at while it is measured
    if (this.timed) return;
    this.timed = true;
    clock.times = unpackTimes((await get(`${clip.base}/timing`)).times);
    clock.video.src = state.proxy;
  },

  /** A steady picture is there before it is known what suits the clip. */
  async lookAhead() {
    const { clip } = this.$store;
    if (clip.answer) return;
    clip.apply(await get(`${clip.base}/meanwhile?near=0`));
    if (!matchMedia("(prefers-reduced-motion: reduce)").matches) live.clock.play();
  },

  async open() {
    const { clip } = this.$store;
    clip.answer = null;
    clip.endLoop();
    await clip.refresh();
    clip.ready = true;
    document.dispatchEvent(new Event("keen:work"));
    if (live.clock.playing) return; // as it was looked at while it was found out what suits it
    live.clock.seek(clip.first);
    if (!matchMedia("(prefers-reduced-motion: reduce)").matches) live.clock.play();
  },
}));
