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

// The browser client is built into client/dist, which the Go binary embeds and serves: as an ES module, as a
// classic script that defines the global tovik, and in the mode react the hooks, without React.
export default defineConfig(({ mode }) => ({
  root: "client",
  plugins: [bounded],
  build: {
    outDir: "dist",
    emptyOutDir: false,
    target: "es2022",
    lib: mode === "react" ? hooks : library,
    rollupOptions: { external: ["react", "react/jsx-runtime"] },
  },
}));
