<!-- Bytes in pairs. -->
<script lang="ts">
  let { hex }: { hex: string } = $props();
  const pairs = $derived(hex.match(/../g)?.join(" ") ?? "");
</script>

{#if pairs}
  <code class="font-mono text-[0.85em] break-words">{pairs}</code>
{:else}
  <span class="text-base-content/75">empty</span>
{/if}
