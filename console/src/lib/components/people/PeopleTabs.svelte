<!-- The pages about people. -->
<script lang="ts">
  import { page } from "$app/state";
  import { session } from "#lib/session.svelte.ts";

  const tabs = $derived(
    [
      { href: "/people", word: "Members and shares", shown: true },
      { href: "/people/tokens", word: "Access tokens", shown: true },
      { href: "/people/audit", word: "Audit log", shown: session.may("audit") },
      { href: "/installation", word: "Installation", shown: session.me?.keeps_installation ?? false },
    ].filter((tab) => tab.shown),
  );
</script>

<nav class="mb-4 flex flex-wrap gap-x-5 gap-y-1 border-b border-base-300" aria-label="People">
  {#each tabs as tab (tab.href)}
    {@const here = page.url.pathname === tab.href}
    <a
      href={tab.href}
      aria-current={here ? "page" : undefined}
      class="-mb-px border-b-2 pb-1.5 font-medium {here ? 'border-primary text-primary' : 'border-transparent hover:border-base-300'}">{tab.word}</a
    >
  {/each}
</nav>
