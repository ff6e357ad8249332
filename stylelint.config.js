export default {
  extends: ["stylelint-config-standard"],
  rules: {
    // Colours are written as in the design: in capitals.
    "color-hex-length": null,
    "no-descending-specificity": null,
    "selector-class-pattern": "^[a-z][a-z0-9-]*$",
    "custom-property-pattern": "^[a-z][a-z0-9-]*$",
    "declaration-block-no-redundant-longhand-properties": null,
    "media-feature-range-notation": null,
  },
};
