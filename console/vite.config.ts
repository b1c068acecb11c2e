import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react(), tailwindcss()],
  // While the console is worked on, the calls go to a service beside it: `lastmile demo`.
  server: { proxy: { "/api": { target: "http://127.0.0.1:8480", changeOrigin: true } } },
});
