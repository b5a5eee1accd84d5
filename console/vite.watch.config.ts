import { defineConfig } from "vite";

// The public pages. Their HTML is written by the service; these are its script and its style sheet.
export default defineConfig({
  publicDir: false,
  build: {
    outDir: "dist-watch",
    assetsInlineLimit: 0,
    modulePreload: false,
    rollupOptions: {
      input: { watch: "watch/watch.ts" },
      output: {
        entryFileNames: "[name].js",
        chunkFileNames: "[name]-[hash].js",
        assetFileNames: "[name][extname]",
      },
    },
  },
});
