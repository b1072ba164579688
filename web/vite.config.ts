import { promises as files } from "node:fs";
import { join } from "node:path";
import { promisify } from "node:util";
import { brotliCompress, constants } from "node:zlib";
import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

/** Texts of the built page stand beside themselves as small as they get, so that the server need not make them so for each visitor. */
function compressed(): Plugin {
  const compress = promisify(brotliCompress);
  return {
    name: "compressed",
    apply: "build",
    async writeBundle({ dir }, bundle) {
      if (dir === undefined) return;
      const texts = Object.keys(bundle).filter((name) => /\.(?:js|css|svg)$/.test(name));
      await Promise.all(
        texts.map(async (name) => {
          const text = await files.readFile(join(dir, name));
          const small = await compress(text, {
            params: {
              [constants.BROTLI_PARAM_QUALITY]: constants.BROTLI_MAX_QUALITY,
              [constants.BROTLI_PARAM_SIZE_HINT]: text.length,
            },
          });
          await files.writeFile(join(dir, `${name}.br`), small);
        }),
      );
    },
  };
}

export default defineConfig({
  plugins: [react(), compressed()],
  // The page's policy allows fonts from this server only, not from inside the styles.
  build: { assetsInlineLimit: 0 },
  server: { proxy: { "/api": "http://127.0.0.1:8470" } },
});
