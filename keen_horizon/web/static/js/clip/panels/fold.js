// A part of the tools that can be closed; whether it is open is remembered.
import { component } from "../../lib/component.js";
import { prefer, preference } from "../../lib/preferences.js";

component("fold", (/** @type {string} */ name) => ({
  init() {
    const open = preference(`fold-${name}`, false);
    /** @type {HTMLDetailsElement} */ (this.$root).open = open;
    this.$store.clip.folds[name] = open;
  },

  turned() {
    const details = /** @type {HTMLDetailsElement} */ (this.$root);
    const { folds } = this.$store.clip;
    const opened = details.open && !folds[name];
    folds[name] = details.open;
    prefer(`fold-${name}`, details.open);
    if (opened) details.scrollIntoView({ block: "nearest" });
  },
}));
