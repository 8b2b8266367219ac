import js from "@eslint/js";
import hooks from "eslint-plugin-react-hooks";
import { defineConfig } from "eslint/config";
import ts from "typescript-eslint";

// Formatting is Prettier's; here are faults only.
export default defineConfig(
  { ignores: ["dist/", "src/api/schema.gen.ts"] },
  js.configs.recommended,
  ts.configs.recommended,
  hooks.configs.flat.recommended,
  {
    rules: {
      // What the latest drawing had is kept for events that come later, and what is shown starts anew with what it is of.
      "react-hooks/refs": "off",
      "react-hooks/set-state-in-effect": "off",
    },
  },
);
