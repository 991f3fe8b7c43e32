import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// In development, the interface is that of a service on its usual address.
export default defineConfig({
  plugins: [react()],
  build: {
    outDir: "../service/web/dist",
    emptyOutDir: true,
    chunkSizeWarningLimit: 1500,
    rollupOptions: { input: ["index.html", "api.html"] },
  },
  server: { proxy: { "/api": "http://127.0.0.1:7070" } },
});
