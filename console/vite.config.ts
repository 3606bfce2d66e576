import adapter from "@sveltejs/adapter-static";
import { sveltekit } from "@sveltejs/kit/vite";
import tailwindcss from "@tailwindcss/vite";
import { defineConfig } from "vite";

/** What tells screen readers the page's name comes with a style attribute, which the policy below does not let through; app.css
 * has the same for it. */
const announcer = {
  name: "announcer-without-style",
  enforce: "pre" as const,
  transform: (code: string, id: string) =>
    id.endsWith("/runtime/components/root.svelte") ? code.replace(/(id="svelte-announcer"[^>]*?)\s+style="[^"]*"/, "$1") : undefined,
};

export default defineConfig({
  plugins: [
    announcer,
    tailwindcss(),
    sveltekit({
      adapter: adapter({ fallback: "index.html" }),
      // The page carries the hashes of its own inline script; nothing else may run.
      csp: {
        mode: "hash",
        directives: {
          "default-src": ["self"],
          "script-src": ["self"],
          "style-src": ["self"],
          "img-src": ["self", "data:"],
          "connect-src": ["self"],
          "object-src": ["none"],
          "base-uri": ["none"],
        },
      },
    }),
  ],
});
