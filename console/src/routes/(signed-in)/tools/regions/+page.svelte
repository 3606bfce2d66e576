<script lang="ts">
  import { type RegionSummary } from "#lib/api.ts";
  import DataTable from "#lib/components/common/DataTable.svelte";

  let { data }: { data: { regions: RegionSummary[] } } = $props();
</script>

<svelte:head><title>Regions · Keen Heron</title></svelte:head>

<h1 class="mb-3">Regions</h1>
<DataTable
  >{#snippet head()}<th>Name</th><th>Band</th><th>Uplink channels</th><th>Largest power</th><th class="hidden md:table-cell">In RP002</th>{/snippet}
  {#each data.regions as region (region.name)}
    <tr data-region={region.name}>
      <td><a class="link font-semibold whitespace-nowrap link-hover" href="/tools/regions/{region.name}">{region.name}</a></td>
      <td class="whitespace-nowrap tabular-nums">{region.from_mhz}–{region.to_mhz} MHz</td>
      <td class="tabular-nums">{region.channels}{region.dynamic ? ", more can be added" : ", fixed"}</td>
      <td class="whitespace-nowrap tabular-nums">{region.max_power_dbm} dBm</td>
      <td class="hidden md:table-cell">{region.title}</td>
    </tr>
  {/each}
</DataTable>
