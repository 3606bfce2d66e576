<!-- What a forecast says of a place: its layers, and the link to each site with its profile. -->
<script lang="ts">
  import type { PlaceForecast } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import ProfileChart from "#lib/components/coverage/ProfileChart.svelte";
  import { layerWord } from "#lib/format.ts";

  let { said, place }: { said: PlaceForecast; place: [number, number] } = $props();
  let open = $state<string | null>(null);
  const shown = $derived(said.links.find((link) => link.site === open) ?? said.links[0]);
</script>

<Card title="{place[0].toFixed(5)}, {place[1].toFixed(5)}" class="mt-4" data-place-report>
  {#if said.values.length === 0}
    <p>No site's losses reach there.</p>
  {:else}
    <dl class="mb-4 flex flex-wrap gap-x-6 gap-y-1 text-sm">
      {#each said.values as value (value.layer)}
        <div data-value={value.layer}>
          <dt class="text-base-content/75">{layerWord(value.layer)}</dt>
          <dd class="font-semibold tabular-nums">{value.words}</dd>
        </div>
      {/each}
    </dl>
  {/if}
  {#if said.links.length > 0}
    <DataTable>
      {#snippet head()}<th>Site</th><th class="text-right">Distance</th><th class="hidden text-right sm:table-cell">Loss</th><th class="text-right">Receives</th
        ><th class="text-right">Margin</th><th class="hidden sm:table-cell">Best data rate</th><th class="hidden lg:table-cell">Losses</th>{/snippet}
      {#each said.links as link (link.site)}
        <tr class={link.site === shown?.site ? "bg-base-200" : ""} data-link={link.site}>
          <td><button class="link font-semibold link-hover" onclick={() => (open = link.site)}>{link.site}</button></td>
          <td class="text-right tabular-nums">{(link.distance_m / 1000).toFixed(2)} km</td>
          <td class="hidden text-right tabular-nums sm:table-cell">{link.loss_db.toFixed(1)} dB</td>
          <td class="text-right tabular-nums">{link.uplink_dbm.toFixed(1)} dBm</td>
          <td class="text-right tabular-nums">{link.margin_db.toFixed(1)} dB</td>
          <td class="hidden sm:table-cell">{link.data_rate == null ? "none" : `DR${link.data_rate}`}</td>
          <td class="hidden text-sm lg:table-cell">{link.parts.map((part) => `${part.what} ${part.loss_db.toFixed(1)}`).join(", ")}</td>
        </tr>
      {/each}
    </DataTable>
    {#if shown}<div class="mt-4"><ProfileChart link={shown} /></div>{/if}
  {/if}
</Card>
