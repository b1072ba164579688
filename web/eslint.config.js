import js from "@eslint/js";
import a11y from "eslint-plugin-jsx-a11y";
import hooks from "eslint-plugin-react-hooks";
import { defineConfig } from "eslint/config";
import typescript from "typescript-eslint";

export default defineConfig(
  { ignores: ["src/api/schema.gen.d.ts"] },
  js.configs.recommended,
  typescript.configs.strictTypeChecked,
  { languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } } },
  hooks.configs.flat["recommended-latest"] ?? hooks.configs.flat.recommended,
  a11y.flatConfigs.recommended,
  {
    rules: {
      // A dialog begins where one types.
      "jsx-a11y/no-autofocus": ["error", { ignoreNonDOM: true }],
      // What is looked at here is footage: it has no captions to offer.
      "jsx-a11y/media-has-caption": "off",
    },
  },
  // A box is what its `component` says.
  { settings: { "jsx-a11y": { polymorphicPropName: "component", components: { Box: "div" } } } },
);
