import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig, type Plugin } from "vite";

/** Writes a .gz beside every script and style, so that the server sends them packed without packing. */
function packed(): Plugin {
  return {
    name: "packed",
    apply: "build",
    closeBundle() {
      const folder = join(import.meta.dirname, "dist", "assets");
      for (const file of readdirSync(folder)) {
        if (/\.(js|css)$/.test(file)) {
          writeFileSync(join(folder, `${file}.gz`), gzipSync(readFileSync(join(folder, file)), { level: 9 }));
        }
      }
    },
  };
}

export default defineConfig({
  plugins: [react(), tailwindcss(), packed()],
  build: {
    target: "es2022",
    chunkSizeWarningLimit: 900,
    assetsInlineLimit: 0,
    rollupOptions: {
      // Packages mark modules for server rendering, which has no meaning here.
      onwarn: (warning, warn) => warning.code === "MODULE_LEVEL_DIRECTIVE" || warn(warning),
    },
  },
  server: { port: 5173, proxy: { "/api": "http://127.0.0.1:8420" } },
});
