<script lang="ts">
  import { api, say, type RegionSummary } from "#lib/api.ts";
  import Notice from "#lib/components/common/Notice.svelte";

  let regions = $state<RegionSummary[] | null>(null);
  let problem = $state("");

  $effect(() => {
    void api.GET("/api/v1/regions").then(({ data, error }) => {
      regions = data ?? null;
      problem = data ? "" : say(error as never);
    });
  });
</script>

<svelte:head><title>Regions · Keen Heron</title></svelte:head>

<h1 class="mb-3">Regions</h1>
<Notice text={problem} />
{#if regions}
  <div class="overflow-x-auto">
    <table class="table table-sm">
      <thead>
        <tr><th>Name</th><th>Band</th><th>Uplink channels</th><th>Largest power</th><th class="hidden md:table-cell">In RP002</th></tr>
      </thead>
      <tbody>
        {#each regions as region (region.name)}
          <tr data-region={region.name}>
            <td><a class="link font-semibold whitespace-nowrap link-hover" href="/tools/regions/{region.name}">{region.name}</a></td>
            <td class="whitespace-nowrap tabular-nums">{region.from_mhz}–{region.to_mhz} MHz</td>
            <td class="tabular-nums">{region.channels}{region.dynamic ? ", more can be added" : ", fixed"}</td>
            <td class="whitespace-nowrap tabular-nums">{region.max_power_dbm} dBm</td>
            <td class="hidden md:table-cell">{region.title}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}
