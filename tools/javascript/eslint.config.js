// The rules for the scripts of the preview: small modules, no names twice, nothing read as markup or code.
import js from "@eslint/js";
import globals from "globals";

export default [
  js.configs.recommended,
  {
    files: ["**/*.js"],
    languageOptions: { ecmaVersion: 2023, sourceType: "module", globals: globals.browser },
    rules: {
      complexity: ["error", 14],
      curly: ["error", "multi-line"],
      eqeqeq: "error",
      "max-lines": ["error", { max: 520 }],
      "no-eval": "error",
      "no-implied-eval": "error",
      "no-restricted-properties": [
        "error",
        ...["innerHTML", "outerHTML", "insertAdjacentHTML", "write", "writeln"].map((property) => ({ property })),
      ],
      "no-shadow": "error",
      "no-unused-vars": ["error", { args: "after-used" }],
      "no-use-before-define": ["error", { functions: false, classes: false, variables: false }],
      "no-var": "error",
      "object-shorthand": "error",
      "prefer-const": "error",
    },
  },
];
