import js from "@eslint/js";
import globals from "globals";

export default [
  { ignores: ["**/vendor/**", "**/node_modules/**", ".venv/**", ".keen/**"] },
  js.configs.recommended,
  {
    files: ["keen_horizon/web/static/js/**/*.js"],
    languageOptions: { globals: { ...globals.browser } },
    rules: {
      complexity: ["error", 12],
      eqeqeq: "error",
      "max-lines": ["error", 450],
      "max-lines-per-function": "off",
      "no-unused-vars": ["error", { argsIgnorePattern: "^_", varsIgnorePattern: "^_" }],
      "no-var": "error",
      "prefer-const": "error",
    },
  },
  {
    files: ["tests/scripts/**/*.js", "*.config.js"],
    languageOptions: { globals: { ...globals.node } },
  },
];
