<!-- Devices that ask to join without being registered, and their adoption. -->
<script lang="ts">
  import type { DeviceStranger } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import { ago, grouped } from "#lib/format.ts";
  import Card from "#lib/components/common/Card.svelte";

  let { strangers, adopt }: { strangers: DeviceStranger[]; adopt: (stranger: DeviceStranger) => void } = $props();
</script>

<Card class="mb-4" data-strangers>
  <h2 class="mb-1">{strangers.length === 1 ? "One device asks" : `${strangers.length} devices ask`} to join without being registered</h2>
  <ul>
    {#each strangers as stranger (stranger.dev_eui)}
      <li class="flex flex-wrap items-baseline gap-x-4 gap-y-1 border-t border-base-300 py-1.5 first:border-t-0">
        <span class="font-mono text-[0.9em]">{grouped(stranger.dev_eui)}</span>
        <span class="text-sm text-base-content/75">
          JoinEUI <span class="font-mono">{grouped(stranger.join_eui)}</span> · {stranger.requests}
          {stranger.requests === 1 ? "request" : "requests"}, the last {ago(stranger.last_heard, live.now)}
          {#if stranger.heard_by[0]}by {stranger.heard_by[0].name} at {Math.round(stranger.heard_by[0].rssi_dbm)} dBm{/if}
        </span>
        <button class="btn ml-auto btn-xs" onclick={() => adopt(stranger)}>Adopt</button>
        {#if stranger.resembles}
          <p class="w-full border-l-4 border-warning pl-2 text-sm">
            Nearly the DevEUI of <a class="link" href="/devices/{stranger.resembles.dev_eui}">{stranger.resembles.name}</a>, {grouped(
              stranger.resembles.dev_eui,
            )}: is it the same device, registered with a slip?
          </p>
        {/if}
      </li>
    {/each}
  </ul>
</Card>
