import tailwindcss from "@tailwindcss/vite";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [tailwindcss()],
  esbuild: { jsx: "automatic" },
  build: {
    rollupOptions: { input: { console: "index.html", portal: "portal.html" } },
    chunkSizeWarningLimit: 900,
    assetsInlineLimit: 0,
  },
});
