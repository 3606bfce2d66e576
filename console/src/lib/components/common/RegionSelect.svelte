<!-- A choice among the regions. -->
<script lang="ts">
  import { api, type RegionSummary } from "#lib/api.ts";

  let { value, choose, none, width }: { value: string; choose: (name: string) => void; none?: string; width: string } = $props();
  let regions = $state<RegionSummary[]>([]);

  $effect(() => {
    void api.GET("/api/v1/regions").then(({ data }) => (regions = data ?? []));
  });
</script>

<select class="select {width}" {value} onchange={(e) => choose(e.currentTarget.value)}>
  {#if none}<option value="">{none}</option>{/if}
  {#each regions as region (region.name)}<option value={region.name}>{region.name}</option>{/each}
</select>
