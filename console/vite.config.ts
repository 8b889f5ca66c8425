import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { gzipSync } from "node:zlib";
import tailwindcss from "@tailwindcss/vite";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

// The service serves files from its own binary: they are compressed here, once.
const compressed = {
  name: "compressed",
  closeBundle() {
    for (const file of readdirSync("dist", { recursive: true, encoding: "utf8" })) {
      if (/\.(html|js|css)$/.test(file)) writeFileSync(join("dist", file + ".gz"), gzipSync(readFileSync(join("dist", file)), { level: 9 }));
    }
  },
};

export default defineConfig({
  plugins: [react(), tailwindcss(), compressed],
  build: { target: "es2022", assetsInlineLimit: 0 },
});
