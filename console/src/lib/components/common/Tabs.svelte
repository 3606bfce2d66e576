<!-- Parts of a page, one shown at a time; which one stands in the address. -->
<script lang="ts" module>
  import { page } from "$app/state";

  /** The tab that the address names, or the first. */
  export function currentTab<T extends string>(tabs: readonly { id: T }[]): T {
    const asked = page.url.searchParams.get("tab");
    const found = tabs.find((tab) => tab.id === asked) ?? tabs[0];
    return found?.id as T;
  }
</script>

<script lang="ts">
  let { tabs, label }: { tabs: readonly { id: string; label: string }[]; label: string } = $props();
  const shown = $derived(currentTab(tabs));

  function address(id: string): string {
    const query = new URLSearchParams(page.url.search);
    query.set("tab", id);
    return `?${query}`;
  }
</script>

<div class="tabs tabs-border mb-5 overflow-x-auto" role="tablist" aria-label={label}>
  {#each tabs as tab (tab.id)}
    <a
      role="tab"
      class="tab whitespace-nowrap {shown === tab.id ? 'tab-active font-semibold' : 'text-base-content/80'}"
      aria-selected={shown === tab.id}
      href={address(tab.id)}
      data-sveltekit-noscroll
      data-sveltekit-replacestate
      data-tab={tab.id}>{tab.label}</a
    >
  {/each}
</div>
