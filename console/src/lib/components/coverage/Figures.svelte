<!-- The figures of a forecast: area and devices by data rate, by how many sites hear them, and what is lost with each. -->
<script lang="ts">
  import type { Amount, Forecast } from "#lib/api.ts";

  let { forecast }: { forecast: Forecast } = $props();
  const figures = $derived(forecast.figures);

  const tables = $derived(
    figures
      ? [
          { title: "Best data rate", rows: figures.by_data_rate.toReversed().map((one) => ({ name: `DR${one.data_rate}`, amount: one.amount })) },
          {
            title: "Sites that hear it",
            rows: figures.by_gateways.map((one) => ({ name: one.gateways === 0 ? "none" : String(one.gateways), amount: one.amount })),
          },
          { title: "Lost without", rows: figures.lost_with.map((one) => ({ name: one.site, amount: one.amount })) },
        ]
      : [],
  );
  const share = (amount: Amount) => (figures ? (100 * amount.area_km2) / Math.max(figures.computed.area_km2, 1e-9) : 0);
</script>

{#if figures}
  <p class="mb-3" data-covered>
    <span class="font-semibold tabular-nums">{figures.covered.area_km2.toFixed(1)} of {figures.computed.area_km2.toFixed(1)} km²</span> are covered, and
    <span class="font-semibold tabular-nums">{figures.covered.devices} of {figures.computed.devices}</span> devices with a place.
  </p>
  <div class="grid items-start gap-4 md:grid-cols-3">
    {#each tables as { title, rows } (title)}
      <table class="table-xs table">
        <thead><tr><th>{title}</th><th class="text-right">Area</th><th class="text-right">Share</th><th class="text-right">Devices</th></tr></thead>
        <tbody>
          {#each rows as { name, amount } (name)}
            <tr>
              <td>{name}</td>
              <td class="text-right tabular-nums">{amount.area_km2.toFixed(1)} km²</td>
              <td class="text-right tabular-nums">{share(amount).toFixed(1)} %</td>
              <td class="text-right tabular-nums">{amount.devices}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    {/each}
  </div>
{/if}
