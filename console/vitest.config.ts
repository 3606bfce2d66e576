import { defineConfig } from "vitest/config";

// Pure TypeScript only; pages and components are tested in a browser, by crates/e2e.
export default defineConfig({
  resolve: { alias: { "#lib": new URL("./src/lib", import.meta.url).pathname } },
  // The console's tsconfig extends one that only SvelteKit can find.
  oxc: { tsconfig: { compilerOptions: {} } } as never,
  test: { include: ["src/**/*.test.ts"], reporters: "dot" },
});
