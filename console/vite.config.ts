import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vitest/config";

// In development the service runs beside Vite; `make dev` sets where.
const service = process.env.DOWSE_SERVICE ?? "http://127.0.0.1:7465";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: { target: "es2022", assetsInlineLimit: 0, chunkSizeWarningLimit: 700 },
  server: { proxy: { "/api": { target: service, changeOrigin: false } } },
  test: { include: ["src/**/*.test.ts"], environment: "node" },
});
