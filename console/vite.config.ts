import adapter from "@sveltejs/adapter-static";
import { sveltekit } from "@sveltejs/kit/vite";
import tailwindcss from "@tailwindcss/vite";
import { defineConfig } from "vite";

/** What tells screen readers the page's name comes with a style attribute, which the service's content security policy does not let through; app.css
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
    }),
  ],
});
