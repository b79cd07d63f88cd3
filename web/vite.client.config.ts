import { gzipSync } from "node:zlib";
import { defineConfig } from "vite";

/** How large the library may be for a page, in bytes of gzip. */
const most = 9 * 1024;

// The browser client is built into client/dist, which the Go binary embeds and serves: as an ES module and as
// a classic script that defines the global tovik.
export default defineConfig({
  root: "client",
  plugins: [
    {
      name: "size",
      generateBundle(_, bundle) {
        for (const chunk of Object.values(bundle)) {
          const size = chunk.type === "chunk" ? gzipSync(chunk.code).length : 0;
          if (size > most) this.error(`${chunk.fileName} has ${size} bytes of gzip; allowed: ${most}`);
        }
      },
    },
  ],
  build: {
    outDir: "dist",
    emptyOutDir: false,
    target: "es2022",
    lib: {
      entry: "src/index.ts",
      name: "tovik",
      formats: ["es", "iife"],
      fileName: (format) => (format === "es" ? "tovik.js" : "tovik.classic.js"),
    },
  },
});
