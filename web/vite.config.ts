import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react()],
  build: { chunkSizeWarningLimit: 2500 },
  server: { proxy: { "/api": { target: "http://127.0.0.1:8400", ws: true } } },
});
