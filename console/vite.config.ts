import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// The service serves what is built here; in development, `npm run dev` passes
// the API on to a service on its usual address.
export default defineConfig({
  plugins: [react()],
  build: {
    outDir: "dist",
    emptyOutDir: true,
    assetsInlineLimit: 0, // nothing inline: the Content-Security-Policy is strict
    chunkSizeWarningLimit: 1200,
  },
  server: { proxy: { "/api": "http://127.0.0.1:7465" } },
});
