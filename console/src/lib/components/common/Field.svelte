<!-- A control with its name above it. -->
<script lang="ts">
  import type { Snippet } from "svelte";

  let { label, hint, class: more = "", children }: { label: string; hint?: string; class?: string; children: Snippet } = $props();
</script>

<label class={more}>
  <span class="block text-sm text-base-content/75">{label}</span>
  {@render children()}
  {#if hint}<span class="block text-sm text-base-content/75">{hint}</span>{/if}
</label>
