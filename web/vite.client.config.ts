import { readFileSync } from "node:fs";
import { gzipSync } from "node:zlib";
import { defineConfig, type LibraryOptions, type Plugin } from "vite";

/** How large the library may be for a page, in bytes of gzip. */
const most = 12 * 1024;

const bounded: Plugin = {
  name: "bounded",
  generateBundle(_, bundle) {
    for (const chunk of Object.values(bundle)) {
      const size = chunk.type === "chunk" ? gzipSync(chunk.code).length : 0;
      if (size > most) this.error(`${chunk.fileName} has ${size} bytes of gzip; allowed: ${most}`);
    }
  },
};

const library: LibraryOptions = {
  entry: "src/index.ts",
  name: "tovik",
  formats: ["es", "iife"],
  fileName: (format) => (format === "es" ? "tovik.js" : "tovik.classic.js"),
};

const hooks: LibraryOptions = { entry: "src/react.tsx", formats: ["es"], fileName: () => "tovik-react.js" };

const server: LibraryOptions = { entry: "src/server.ts", formats: ["es"], fileName: () => "tovik-server.js" };

const { dependencies } = JSON.parse(readFileSync(new URL("client/package.json", import.meta.url), "utf8"));

// The browser client is built into client/dist, which the Go binary embeds and serves: as an ES module, and as a
// classic script that defines the global tovik. In the mode react it is the hooks, without React; in the mode server
// the entry for back ends in Node, without its dependencies.
export default defineConfig(({ mode }) => ({
  root: "client",
  plugins: mode === "server" ? [] : [bounded],
  build: {
    outDir: "dist",
    emptyOutDir: false,
    target: "es2022",
    minify: mode !== "server",
    lib: { react: hooks, server }[mode] ?? library,
    rollupOptions: { external: ["react", "react/jsx-runtime", ...Object.keys(dependencies)] },
  },
}));
