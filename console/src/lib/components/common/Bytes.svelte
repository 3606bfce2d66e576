<!-- Bytes in pairs; those from the first place up to the second are lit. -->
<script lang="ts">
  let { hex, lit = null }: { hex: string; lit?: [number, number] | null } = $props();
  const bytes = $derived(hex.match(/../g) ?? []);
  const inside = (at: number) => lit !== null && at >= lit[0] && at < lit[1];
</script>

{#if bytes.length > 0}
  <!-- In one line: what stands between the pairs is copied along. -->
  <code class="font-mono text-[0.85em] break-words"
    >{#if lit}{#each bytes as byte, at (at)}{at > 0 ? " " : ""}<span
          class={inside(at) ? "bg-primary text-primary-content" : ""}
          data-lit={inside(at) ? "" : undefined}>{byte}</span
        >{/each}{:else}{bytes.join(" ")}{/if}</code
  >
{:else}
  <span class="text-base-content/75">empty</span>
{/if}
