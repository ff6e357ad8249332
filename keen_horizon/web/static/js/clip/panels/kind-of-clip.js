// Whether a recording is worked on as a flat clip or as a sphere, where that is a question.
import { post } from "../../lib/api.js";
import { component } from "../../lib/component.js";

component("kindOfClip", () => ({
  words: "",

  /** Why it was taken for what it is; nothing where there is no question. */
  get why() {
    return this.$store.clip.state?.kind_words ?? "";
  },

  /** @param {string} kind */
  is(kind) {
    return this.$store.clip.state?.kind === kind;
  },

  /**
   * The page is another for another kind.
   * @param {string} kind
   */
  async take(kind) {
    const { clip } = this.$store;
    if (this.is(kind)) return;
    this.words = "Opening it as that …";
    const told = await clip.guard(() => post(`${clip.base}/kind`, { kind }));
    if (told) window.location.reload();
    else this.words = "";
  },
}));
