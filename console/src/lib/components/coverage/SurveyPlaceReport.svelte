<!-- What was measured around a place: each quantity, and each gateway that was listening. -->
<script lang="ts">
  import type { SurveyPlace } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import DataTable from "#lib/components/common/DataTable.svelte";

  let { said, place }: { said: SurveyPlace; place: [number, number] } = $props();
  const number = (value: number | null | undefined, unit: string) => (value == null ? "–" : `${value.toFixed(0)} ${unit}`);
</script>

<Card title="{place[0].toFixed(5)}, {place[1].toFixed(5)}" class="mt-4" data-survey-place>
  {#if said.values.length === 0}
    <p>Nothing was measured within some 200 m.</p>
  {:else}
    <dl class="mb-4 flex flex-wrap gap-x-6 gap-y-1 text-sm">
      {#each said.values as value (value.quantity)}
        <div data-value={value.quantity}>
          <dt class="text-base-content/75">{value.title}</dt>
          <dd class="tabular-nums">
            <span class="font-semibold">{value.hexagon.words}</span>
            {#if value.hexagon.spread}<span class="text-base-content/75">spread {value.hexagon.spread.toFixed(0)}</span>{/if}
          </dd>
        </div>
      {/each}
    </dl>
    <DataTable>
      {#snippet head()}<th>Gateway</th><th class="text-right">RSSI</th><th class="text-right">SNR</th><th class="text-right">Heard</th>{/snippet}
      {#each said.gateways as one (one.gateway)}
        <tr data-heard-by={one.gateway}>
          <td class="font-semibold">{one.gateway}</td>
          <td class="text-right tabular-nums">{number(one.rssi_dbm, "dBm")}</td>
          <td class="text-right tabular-nums">{number(one.snr_db, "dB")}</td>
          <td class="text-right tabular-nums">{one.heard} of {one.heard + one.unheard}</td>
        </tr>
      {/each}
    </DataTable>
    {#if said.devices.length > 0}<p class="mt-3 text-sm"><span class="text-base-content/75">Sent by</span> {said.devices.join(", ")}</p>{/if}
  {/if}
</Card>
