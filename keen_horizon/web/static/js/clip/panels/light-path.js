// The light path: what each station does now, its switch, whether something is dear.
import { component } from "../../lib/component.js";

component("lightPath", () => ({
  get sourceWords() {
    return this.$store.clip.state?.source_words ?? "";
  },

  get outputWords() {
    const output = this.$store.clip.answer?.report.output;
    return output ? `${output.width} × ${output.height}` : "";
  },

  /** @param {string} name */
  summary(name) {
    return this.$store.clip.answer?.stations[name].summary ?? "…";
  },

  /** @param {string} name */
  warnings(name) {
    return (this.$store.clip.answer?.stations[name].warnings ?? []).join(" ");
  },

  /** @param {string} name */
  isOn(name) {
    return this.$store.clip.treatment?.[name].on ?? true;
  },

  /** @param {string} name */
  look(name) {
    const open = this.$store.clip.station === name ? "is-open" : "";
    return `${open} ${this.isOn(name) ? "" : "is-off"}`;
  },

  /** @param {string} name */
  open(name) {
    this.$store.clip.endTool();
    this.$store.clip.station = name;
    document.querySelector(".tools")?.scrollTo(0, 0);
  },

  /** @param {string} name */
  toggle(name) {
    if (this.$store.clip.ready) this.$store.clip.change(`${name}.on`, !this.isOn(name));
  },
}));
