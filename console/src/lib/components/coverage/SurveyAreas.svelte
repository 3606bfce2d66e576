<!-- Weak and dark areas, the worst first, with what to do. -->
<script lang="ts">
  import { api, call, every, type SurveyFilter } from "#lib/api.ts";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import State from "#lib/components/common/State.svelte";
  import { resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  let { filter }: { filter: SurveyFilter } = $props();
  /** Devices that are named. */
  const NAMED = 3;
  const path = $derived({ estate: session.estate });
  const held = resource(() => every((query) => call(api.GET("/api/v1/estates/{estate}/survey/areas", { params: { path, query: { ...query, ...filter } } }))));
  let all = $state(false);
  const poor = $derived((held.value ?? []).filter((one) => all || one.kind !== "one_gateway"));
  const single = $derived((held.value ?? []).filter((one) => one.kind === "one_gateway").length);
</script>

<Notice text={held.problem} />
{#if held.value}
  {#if poor.length === 0}
    <p class="text-sm text-base-content/75">No weak or dark area was found.</p>
  {:else}
    <DataTable>
      {#snippet head()}<th>Area</th><th>Place</th><th class="hidden text-right sm:table-cell">Size</th><th class="text-right">Lost</th><th
          class="hidden text-right sm:table-cell">Margin</th
        ><th class="hidden md:table-cell">Devices</th><th class="hidden md:table-cell">What to do</th>{/snippet}
      {#each poor as one (`${one.latitude_deg},${one.longitude_deg}`)}
        {@const more = one.devices.length - NAMED}
        <tr data-area={one.kind}>
          <td><State state={one.kind} /></td>
          <td class="whitespace-nowrap tabular-nums">{one.latitude_deg.toFixed(4)}, {one.longitude_deg.toFixed(4)}</td>
          <td class="hidden text-right whitespace-nowrap tabular-nums sm:table-cell">{one.area_km2.toFixed(2)} km²</td>
          <td class="text-right whitespace-nowrap tabular-nums">{one.lost} of {one.lost + one.uplinks}</td>
          <td class="hidden text-right whitespace-nowrap tabular-nums sm:table-cell">{one.margin_db == null ? "–" : `${one.margin_db.toFixed(0)} dB`}</td>
          <td class="hidden text-sm md:table-cell">{one.devices.slice(0, NAMED).join(", ")}{more > 0 ? ` and ${more} more` : ""}</td>
          <td class="hidden text-sm md:table-cell">{one.next_step}</td>
        </tr>
        <tr class="md:hidden"><td colspan="4" class="text-sm">{one.next_step}</td></tr>
      {/each}
    </DataTable>
  {/if}
  {#if single > 0}
    <label class="mt-2 flex items-center gap-2 text-sm">
      <input class="checkbox checkbox-sm" type="checkbox" bind:checked={all} />also show the {single} places that one gateway alone hears
    </label>
  {/if}
{:else if !held.problem}
  <Loading />
{/if}
