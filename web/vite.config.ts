import { readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, constants } from "node:zlib";
import vue from "@vitejs/plugin-vue";
import type { Plugin } from "vite";
import { defineConfig } from "vitest/config";
import vuetify from "vite-plugin-vuetify";
import { patternOf, ROUTES } from "./src/routes.ts";

/**
 * Writes down which files the page at each address is made of: the server has the browser ask for them beside
 * the first scripts, and not only once those have run.
 */
function askEarly(): Plugin {
  return {
    name: "ask-early",
    generateBundle(_, bundle) {
      const chunks = Object.values(bundle).filter((made) => made.type === "chunk");
      const first = new Set(chunks.filter((c) => c.isEntry).flatMap((c) => [c.fileName, ...c.imports]));
      const needs = (file: string, found: Set<string>) => {
        const chunk = chunks.find((c) => c.fileName === file);
        if (!chunk || first.has(file) || found.has(file)) return found;
        [file, ...(chunk.viteMetadata?.importedCss ?? [])].forEach((one) => found.add(one));
        chunk.imports.forEach((other) => needs(other, found));
        return found;
      };
      const table = ROUTES.map(({ path, view }) => {
        const chunk = chunks.find((c) => c.facadeModuleId?.endsWith(`/src/views/${view}.vue`));
        return { address: patternOf(path), files: [...needs(chunk?.fileName ?? "", new Set())] };
      });
      this.emitFile({ type: "asset", fileName: "early.json", source: JSON.stringify(table) });
    },
  };
}

/** Lays each file beside itself as small as it gets (RFC 7932): too slow to be done as it is asked for. */
function packed(): Plugin {
  return {
    name: "packed",
    apply: "build",
    writeBundle({ dir }, bundle) {
      for (const name of Object.keys(bundle).filter((file) => /^assets\/.*\.(js|css|svg)$/.test(file))) {
        const whole = readFileSync(join(dir!, name));
        const params = { [constants.BROTLI_PARAM_SIZE_HINT]: whole.length };
        writeFileSync(join(dir!, `${name}.br`), brotliCompressSync(whole, { params }));
      }
    },
  };
}

export default defineConfig({
  plugins: [vue(), vuetify({ autoImport: true }), askEarly(), packed()],
  server: { host: "127.0.0.1", proxy: { "/api": process.env.BARN_API ?? "http://127.0.0.1:7420" } },
  build: {
    chunkSizeWarningLimit: 900,
    // What many chunks need is one: fifty small files take longer to come than they take to read.
    rolldownOptions: { output: { codeSplitting: { groups: [{ name: "shared", minShareCount: 18 }] } } },
  },
  test: {
    environment: "happy-dom",
    include: ["src/**/*.test.ts"],
    testTimeout: 120_000, // how long one takes is no reason to fail
    server: { deps: { inline: ["vuetify"] } }, // its components bring their styles along
  },
});
