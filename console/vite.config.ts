/// <reference types="vitest/config" />
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// Relative addresses: the service writes <base href> for wherever it is served.
export default defineConfig({
  base: "./",
  plugins: [react()],
  build: { target: "es2022", sourcemap: false, chunkSizeWarningLimit: 700 },
  worker: { format: "es" },
  // Component tests: `cargo test` starts them (crates/service/tests/suite/console_components.rs).
  test: {
    environment: "happy-dom",
    include: ["tests/**/*.test.{ts,tsx}"],
    setupFiles: ["tests/setup.ts"],
    testTimeout: 90_000,
    restoreMocks: true,
  },
  server: { proxy: { "/api": process.env.PENNINE_DEV_SERVICE ?? "http://127.0.0.1:7117" } },
});
