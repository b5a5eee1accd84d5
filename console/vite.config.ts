import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

// The service serves what is built here; `npm run dev` is not part of the product.
export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: {
    outDir: "dist",
    // Fonts stay files: the content policy forbids data addresses for them.
    assetsInlineLimit: 0,
    reportCompressedSize: true,
  },
  test: {
    setupFiles: ["src/test/setup.ts"],
    // Above the limit of one wait (see the setup file), so that a wait that fails reports what is missing.
    testTimeout: 60_000,
  },
});
