import js from "@eslint/js";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config(
  {
    files: ["screenshots/**"],
    languageOptions: { globals: { process: "readonly", Buffer: "readonly", console: "readonly" } },
  },
  { ignores: ["dist", "node_modules", "src/api/schema.generated.ts"] },
  js.configs.recommended,
  ...ts.configs.strict,
  hooks.configs.flat.recommended,
  {
    rules: {
      // It warns of the memoising compiler, which is not in use here.
      "react-hooks/incompatible-library": "off",
      "@typescript-eslint/no-explicit-any": "error",
      "no-restricted-globals": ["error", { name: "fetch", message: "Ask through src/api." }],
    },
  },
);
