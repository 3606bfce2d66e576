<!-- A button that asks once more before it does what cannot be undone. -->
<script lang="ts">
  type Props = { label: string; sure?: string; what?: string; tone?: string; run: () => unknown };
  let { label, sure = label, what = "", tone = "btn-error", run }: Props = $props();
  let asked = $state(false);

  async function yes() {
    await run();
    asked = false;
  }
</script>

{#if asked}
  <span data-sure>
    {#if what}<span class="mr-2 text-sm">{what}</span>{/if}
    <button class="btn btn-sm {tone}" type="button" onclick={yes}>{sure}</button>
    <button class="btn btn-ghost btn-sm" type="button" onclick={() => (asked = false)}>Cancel</button>
  </span>
{:else}
  <button class="btn btn-sm" type="button" onclick={() => (asked = true)}>{label}</button>
{/if}
