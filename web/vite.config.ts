import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

// The console is built into console/dist, which the Go binary embeds.
export default defineConfig({
  root: "console",
  plugins: [react(), tailwindcss()],
  resolve: { alias: { "@client": new URL("./client/src", import.meta.url).pathname } },
  build: { outDir: "dist", emptyOutDir: true, target: "es2023" },
  test: { root: ".", include: ["{client,console}/**/*.test.{ts,tsx}"] },
});
