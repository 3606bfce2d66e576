<!-- A sentence in which what stands between backticks is code. -->
<script lang="ts">
  let { text }: { text: string } = $props();
  const parts = $derived(text.split("`"));
</script>

{#each parts as part, i (i)}{#if i % 2 === 1}<code class="font-mono text-[0.9em]">{part}</code>{:else}{part}{/if}{/each}
