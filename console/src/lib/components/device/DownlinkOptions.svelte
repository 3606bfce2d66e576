<!-- How a downlink is sent: acknowledged or not, and how long it may wait. -->
<script lang="ts">
  import type { DownlinkDraft } from "#lib/downlink.svelte.ts";

  let { draft, ordered = false }: { draft: DownlinkDraft; ordered?: boolean } = $props();
</script>

<label class="flex items-center gap-2">
  <input class="checkbox checkbox-sm" type="checkbox" name="confirmed" bind:checked={draft.confirmed} /> confirmed
</label>
{#if ordered}
  <label class="flex items-center gap-2">
    <input class="checkbox checkbox-sm" type="checkbox" name="first" bind:checked={draft.first} /> send first
  </label>
{/if}
<label class="flex items-center gap-2">
  <span class="text-sm text-base-content/75">Expires</span>
  <select class="select select-sm w-32" name="expires" bind:value={draft.expiresInS}>
    <option value={0}>never</option>
    <option value={600}>after 10 min</option>
    <option value={3600}>after 1 h</option>
    <option value={86400}>after 1 day</option>
    <option value={604800}>after 7 days</option>
  </select>
</label>
