import js from "@eslint/js";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config(
  js.configs.recommended,
  ts.configs.recommended,
  {
    files: ["src/**/*.{ts,tsx}"],
    plugins: { "react-hooks": hooks },
    // The compiler that this rule speaks of is not used here.
    rules: { ...hooks.configs.recommended.rules, "react-hooks/incompatible-library": "off" },
  },
  { ignores: ["dist", "src/api/schema.d.ts"] },
);
