// What becomes a frame of an interlaced recording: another clip of it, with other frames.
import { post } from "../../lib/api.js";
import { component } from "../../lib/component.js";

component("fieldsOfClip", () => ({
  each: "pair",
  first: "file",
  words: "",

  init() {
    this.$watch("$store.clip.state", () => this.begin());
    this.begin();
  },

  begin() {
    if (!this.fields || this.words) return;
    this.each = this.fields.each;
    this.first = this.fields.first;
  },

  get fields() {
    return this.$store.clip.state?.fields ?? null;
  },

  get isInterlaced() {
    return this.fields !== null;
  },

  get now() {
    return this.fields?.words ?? "";
  },

  get hint() {
    return this.fields?.hints[this.each] ?? "";
  },

  get isSame() {
    return this.each === this.fields?.each && this.first === this.fields?.first;
  },

  async take() {
    const { clip } = this.$store;
    this.words = "Making it …";
    const made = await clip.guard(() =>
      post(`${clip.base}/fields`, { each: this.each, first: this.first }),
    );
    this.words = "";
    if (made) window.location.assign(`/clips/${made.clip}`);
  },
}));
