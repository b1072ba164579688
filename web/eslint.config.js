import js from "@eslint/js";
import hooks from "eslint-plugin-react-hooks";
import { defineConfig } from "eslint/config";
import typescript from "typescript-eslint";

export default defineConfig(
  js.configs.recommended,
  typescript.configs.strict,
  hooks.configs.flat["recommended-latest"] ?? hooks.configs.flat.recommended,
  { ignores: ["src/api/schema.gen.d.ts"] },
);
