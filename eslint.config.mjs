import js from "@eslint/js";
import globals from "globals";

export default [
  { ignores: ["node_modules/", "src/zipplumb/web/static/", "src/zipplumb/exchange/handout/", "var/", ".venv/"] },
  js.configs.recommended,
  {
    files: ["frontend/**/*.js"],
    languageOptions: { ecmaVersion: 2024, sourceType: "module", globals: globals.browser },
    rules: { eqeqeq: ["error", "always", { null: "ignore" }], "no-unused-vars": "error", "prefer-const": "error" },
  },
  { files: ["**/*.mjs"], languageOptions: { globals: globals.node } },
];
