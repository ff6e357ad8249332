// What stands over the picture while a clip is taken in or measured.
import { post } from "../../lib/api.js";
import { component } from "../../lib/component.js";
import { gaveUp, jobWords } from "../../lib/wait.js";

/** @type {Record<string, string>} */
const TITLES = {
  recording: "Recording the take",
  refused: "This file was refused",
  "taking in": "Taking the file in",
  measuring: "Measuring the camera's motion",
  choosing: "Finding out what suits this clip",
  ready: "Solving",
};
/** @type {Record<string, string>} */
const WORDS = {
  recording: "Takes of the demo shoot are made on this machine, once.",
  "taking in": "Checking it, following its motion, and making a proxy to play.",
  measuring: "Once; changing settings will not need it again.",
  choosing: "This is a plain steady picture; the one that suits it comes in a moment.",
  ready: "Working out the steadied path.",
};

const WIDEST = 2048; // px of a file that is played as it came: more would slow what is waited for

component("waiting", () => ({
  seen: false,
  unplayable: false,

  /** The file as it came, as long as there is nothing better to look at. */
  get file() {
    return this.isOpen && !this.unplayable ? (this.state?.file ?? "") : "";
  },

  get fileLook() {
    return this.seen ? "" : "is-hidden";
  },

  /**
   * What becomes of a film is known once the browser has tried it.
   * @param {HTMLVideoElement} film
   */
  watch(film) {
    film.addEventListener("loadeddata", () => {
      this.seen = film.videoWidth > 0 && film.videoWidth <= WIDEST;
      this.unplayable = !this.seen;
    });
    film.addEventListener("error", () => {
      this.unplayable = true;
    });
  },

  get state() {
    return this.$store.clip.state;
  },

  get work() {
    return this.state?.work ?? null;
  },

  get phase() {
    return this.work?.kind === "take" ? "recording" : (this.state?.phase ?? "");
  },

  get isAside() {
    return this.$store.clip.frameCount || (this.file && this.seen) ? "is-aside" : "";
  },

  get title() {
    if (!this.state) return "Opening";
    if (this.work?.ending && this.phase === "measuring") return `${this.work.doing} this clip`;
    return TITLES[this.phase];
  },

  get mayRetry() {
    return gaveUp(this.work) && this.state?.phase !== "refused";
  },

  get words() {
    if (!this.state) return "";
    if (this.state.refusal) return this.state.refusal;
    if (this.mayRetry && this.work) return this.work.message || jobWords(this.work);
    return WORDS[this.phase] ?? "";
  },

  get isOpen() {
    return Boolean(this.work?.open);
  },

  get mayCancel() {
    return this.isOpen;
  },

  get done() {
    return this.work?.done ?? 0;
  },

  get total() {
    return this.work?.total || 1;
  },

  /** Whether frames are still counted. */
  get isCounting() {
    return this.isOpen && !this.work?.ending;
  },

  get frames() {
    return this.work && this.isCounting ? jobWords(this.work) : "";
  },

  retry() {
    return this.tell("retry");
  },

  cancel() {
    return this.tell("cancel");
  },

  /** @param {"retry" | "cancel"} what */
  tell(what) {
    const { clip } = this.$store;
    return clip.guard(async () => {
      await post(`/work/${this.work?.id}/${what}`);
      clip.state = Object.freeze(await post(`${clip.base}/open`));
    });
  },
}));
