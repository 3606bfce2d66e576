import { svelte } from "@sveltejs/vite-plugin-svelte";
import { defineConfig } from "vitest/config";

// TypeScript only; pages and components are tested in a browser, by crates/e2e.
export default defineConfig({
  plugins: [svelte({ configFile: false })],
  resolve: { conditions: ["browser"], alias: { "#lib": new URL("./src/lib", import.meta.url).pathname } },
  // The console's tsconfig extends one that only SvelteKit can find.
  oxc: { tsconfig: { compilerOptions: {} } } as never,
  test: { include: ["src/**/*.test.ts"], reporters: "dot" },
});
