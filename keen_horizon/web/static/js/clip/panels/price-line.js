// The price line: what the treatment costs and buys, always in view.
import { component } from "../../lib/component.js";

component("priceLine", () => ({
  /** The figures that stations want in view. */
  get items() {
    return this.$store.clip.answer?.price ?? [];
  },

  get note() {
    const stations = Object.values(this.$store.clip.answer?.stations ?? {});
    return stations
      .map((one) => one.details.price)
      .filter(Boolean)
      .join(" ");
  },

  /** @param {Figure} item */
  look(item) {
    return item.amber ? "is-amber" : "";
  },

  /** @param {Figure} item */
  go(item) {
    if (item.frame !== null) this.$store.clip.go(item.frame);
  },
}));
