import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

export default defineConfig({
  plugins: [react()],
  build: { outDir: "dist", emptyOutDir: true, chunkSizeWarningLimit: 900 },
  css: {
    preprocessorOptions: {
      // Bootstrap's own sources still use what Sass has deprecated.
      scss: { quietDeps: true, silenceDeprecations: ["import", "global-builtin", "color-functions", "if-function"] },
    },
  },
  test: { environment: "node", setupFiles: ["src/testing.setup.ts"], include: ["src/**/*.test.{ts,tsx}"], env: { TZ: "Europe/Berlin" } },
  server: { proxy: { "/v1": "http://127.0.0.1:7450" } },
});
