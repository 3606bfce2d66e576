<!-- A payload's bytes over their places; those a reading came from are lit. -->
<script lang="ts">
  let { hex, lit = [], point = () => {} }: { hex: string; lit?: number[]; point?: (at: number | null) => void } = $props();
  const bytes = $derived(hex.match(/../g) ?? []);
</script>

{#if bytes.length === 0}
  <span class="text-base-content/75">no bytes</span>
{:else}
  <div
    class="flex flex-wrap gap-y-1 font-mono text-[0.85em] leading-tight"
    role="img"
    aria-label="{bytes.length} bytes: {bytes.join(' ')}"
    data-ruler
    onpointerleave={() => point(null)}
  >
    {#each bytes as byte, at (at)}
      <span
        class="px-[0.28rem] pb-0.5 text-center {lit.includes(at)
          ? 'bg-primary text-primary-content'
          : at % 8 === 0 && at > 0
            ? 'border-l border-base-300'
            : ''}"
        data-lit={lit.includes(at) ? "" : undefined}
        role="presentation"
        onpointerenter={() => point(at)}
      >
        {byte}<span class="block text-[0.7em] {lit.includes(at) ? '' : 'text-base-content/75'}">{at}</span>
      </span>
    {/each}
  </div>
{/if}
