<!-- A choice among the regions. -->
<script lang="ts">
  import { api, call, every } from "#lib/api.ts";
  import { resource } from "#lib/resource.svelte.ts";

  let { value, choose, none, width }: { value: string; choose: (name: string) => void; none?: string; width: string } = $props();
  const held = resource(() => every((query) => call(api.GET("/api/v1/regions", { params: { query } }))));
  const regions = $derived(held.value ?? []);
</script>

<select class="select {width}" {value} onchange={(e) => choose(e.currentTarget.value)}>
  {#if none}<option value="">{none}</option>{/if}
  {#each regions as region (region.name)}<option value={region.name}>{region.name}</option>{/each}
</select>
