import vue from "@vitejs/plugin-vue";
import { defineConfig } from "vitest/config";
import vuetify from "vite-plugin-vuetify";

export default defineConfig({
  plugins: [vue(), vuetify({ autoImport: true })],
  server: { host: "127.0.0.1", proxy: { "/api": process.env.BARN_API ?? "http://127.0.0.1:7420" } },
  build: {
    chunkSizeWarningLimit: 900,
    // What many chunks need is one: fifty small files take longer to come than they take to read.
    rolldownOptions: { output: { codeSplitting: { groups: [{ name: "shared", minShareCount: 18 }] } } },
  },
  test: {
    environment: "happy-dom",
    include: ["src/**/*.test.ts"],
    server: { deps: { inline: ["vuetify"] } }, // its components bring their styles along
  },
});
