import js from "@eslint/js";
import a11y from "eslint-plugin-jsx-a11y";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config(
  js.configs.recommended,
  ts.configs.recommendedTypeChecked,
  {
    files: ["src/**/*.{ts,tsx}"],
    languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } },
    plugins: { "react-hooks": hooks, "jsx-a11y": a11y },
    rules: {
      ...hooks.configs.recommended.rules,
      ...a11y.flatConfigs.recommended.rules,
      // The compiler that this rule speaks of is not used here.
      "react-hooks/incompatible-library": "off",
      // What scrolls is reached by keyboard: axe, which the tests run on every page, demands what this rule forbids.
      "jsx-a11y/no-noninteractive-tabindex": "off",
      // A dialog and the page to sign in begin where one writes.
      "jsx-a11y/no-autofocus": "off",
      "max-len": ["error", { code: 120, ignoreStrings: true, ignoreTemplateLiterals: true }],
      "max-lines-per-function": ["error", { max: 80 }],
      complexity: ["error", 15],
    },
  },
  {
    files: ["src/{app,features,schemes,shared}/**/*.tsx"],
    ignores: ["src/shared/ModeCells.tsx"], // a mode's bits, as its twelve switches lie
    rules: {
      // One of each stands in src/ui.
      "no-restricted-syntax": [
        "error",
        {
          selector:
            "JSXOpeningElement[name.name=/^(label|form|input|select|textarea|table)$/]" +
            ":not(:has(JSXAttribute[name.name='type'] > Literal[value='range']))",
          message: "use Field, Checkbox, Form, Input, Select, TextArea or Table of src/ui",
        },
      ],
    },
  },
  { ignores: ["dist", "src/api/schema.d.ts"] },
);
