// Versions: revisions kept under a name.
import { post } from "../../lib/api.js";
import { component } from "../../lib/component.js";

component("versions", () => ({
  name: "",
  asks: "", // what is missing, said at its field

  get all() {
    return this.$store.clip.answer?.versions ?? [];
  },

  get words() {
    const { answer } = this.$store.clip;
    if (!answer) return "";
    const current = this.all.find((version) => version.current);
    const kept = current ? current.name : `${this.all.length || "none"} kept`;
    return `revision ${answer.revision} · ${kept}`;
  },

  async keep() {
    const { clip } = this.$store;
    this.asks = this.name.trim() ? "" : "Give this version a name first.";
    if (this.asks) {
      this.$refs.name.focus();
      return;
    }
    await clip.guard(async () => {
      const standing = await post(`${clip.base}/versions`, { name: this.name });
      clip.answer = Object.freeze({ .../** @type {Answer} */ (clip.answer), ...standing });
      this.name = "";
    });
  },

  /** @param {Version} version */
  async goTo(version) {
    await this.$store.clip.toRevision(`versions/${version.id}`);
  },
}));
