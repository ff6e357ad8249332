// The size of the output.
import { component } from "../../lib/component.js";

component("outputSize", () => ({
  asSource() {
    this.$store.clip.edit(({ frame }) => Object.assign(frame, { width: null, height: null }));
  },
}));
