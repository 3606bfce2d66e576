<!-- Gateways that connect and are not registered. -->
<script lang="ts">
  import type { Stranger } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import State from "#lib/components/common/State.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { ago, grouped, WAYS } from "#lib/format.ts";

  let { strangers, adopt }: { strangers: Stranger[]; adopt: (stranger: Stranger) => void } = $props();
</script>

<section class="mt-8">
  <h2>Strangers</h2>
  {#if strangers.length === 0}
    <p class="mt-1 text-base-content/75">No strangers.</p>
  {:else}
    <p class="mt-1 mb-2 max-w-prose text-base-content/80">
      These gateways connect but are not registered. They are answered so that they stay visible; their frames are rejected. If one is yours, adopt it.
    </p>
    <DataTable class=""
      >{#snippet head()}<th>EUI</th><th class="hidden sm:table-cell">State</th><th>Last heard</th><th class="hidden sm:table-cell">First heard</th><th
          class="text-right">Frames rejected</th
        ><th class="hidden md:table-cell">Connection</th><th class="hidden lg:table-cell">Hears</th><th class="hidden md:table-cell">Address</th><th
        ></th>{/snippet}
      {#each strangers as stranger (stranger.eui)}
        <tr>
          <td class="font-mono text-[0.85em] whitespace-nowrap">{grouped(stranger.eui)}</td>
          <td class="hidden sm:table-cell"><State state="stranger" /></td>
          <td class="whitespace-nowrap tabular-nums">{ago(stranger.last_heard, live.now)}</td>
          <td class="hidden whitespace-nowrap tabular-nums sm:table-cell">{ago(stranger.first_heard, live.now)}</td>
          <td class="text-right tabular-nums">{stranger.frames_turned_away}</td>
          <td class="hidden md:table-cell">{WAYS[stranger.protocol]}</td>
          <td class="hidden tabular-nums lg:table-cell" title={stranger.frequencies_mhz.map((mhz) => `${mhz} MHz`).join(", ")}>
            {stranger.frequencies_mhz.length === 0 ? "nothing yet" : (stranger.region ?? "no region's channels")}
          </td>
          <td class="hidden font-mono text-[0.85em] md:table-cell">{stranger.address}</td>
          <td
            >{#if session.may("gateways")}<button class="btn btn-sm" onclick={() => adopt(stranger)} aria-label="Adopt {stranger.eui}">Adopt</button>{/if}</td
          >
        </tr>
      {/each}
    </DataTable>
  {/if}
</section>
