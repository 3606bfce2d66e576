<!-- A button that asks once more before it does what cannot be undone. -->
<script lang="ts">
  type Props = {
    label: string;
    sure?: string;
    /** What comes of it. */
    what?: string;
    tone?: string;
    class?: string;
    disabled?: boolean;
    run: () => unknown;
  };
  let { label, sure = label, what = "", tone = "btn-error", class: look = "btn btn-sm", disabled = false, run }: Props = $props();
  let asked = $state(false);

  async function yes() {
    await run();
    asked = false;
  }
</script>

{#if asked}
  <span data-sure>
    {#if what}<span class="mr-2 text-sm">{what}</span>{/if}
    <button class="btn btn-sm {tone}" type="button" {disabled} onclick={yes}>{sure}</button>
    <button class="btn btn-ghost btn-sm" type="button" onclick={() => (asked = false)}>Cancel</button>
  </span>
{:else}
  <button class={look} type="button" {disabled} onclick={() => (asked = true)}>{label}</button>
{/if}
