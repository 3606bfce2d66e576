<script lang="ts">
  import type { Snippet } from "svelte";
  import { page } from "$app/state";

  let { children }: { children: Snippet } = $props();

  const tools = [
    { href: "/tools/frame", word: "Frame" },
    { href: "/tools/regions", word: "Regions" },
    { href: "/tools/airtime", word: "Airtime" },
  ];
  const here = (href: string) => page.url.pathname.startsWith(href);
</script>

<nav class="mb-4 flex gap-1" aria-label="Tools">
  {#each tools as tool (tool.href)}
    <a
      href={tool.href}
      aria-current={here(tool.href) ? "page" : undefined}
      class="rounded-field border px-3 py-1 text-sm font-medium {here(tool.href)
        ? 'border-primary bg-primary/10 text-primary'
        : 'border-transparent hover:border-base-300'}"
    >
      {tool.word}
    </a>
  {/each}
</nav>
{@render children()}
