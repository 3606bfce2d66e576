<!-- A forecast on the map: one layer with its legend, and what is under the pointer. -->
<script lang="ts">
  import { page } from "$app/state";
  import { goto } from "$app/navigation";
  import { api, call, type Forecast, type ForecastLayer } from "#lib/api.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import PlaceMap from "#lib/components/common/PlaceMap.svelte";
  import Legend from "#lib/components/coverage/Legend.svelte";
  import PlaceReport from "#lib/components/coverage/PlaceReport.svelte";
  import { layerWord } from "#lib/format.ts";
  import { resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { sitePoints } from "#lib/sites.ts";

  let { forecast }: { forecast: Forecast } = $props();

  /** The finest tiles; beyond them the browser enlarges. */
  const MAX_LEVEL = 16;
  let layer = $state((page.url.searchParams.get("layer") ?? "margin") as ForecastLayer);
  let opacity = $state(70);
  let chosen = $state<[number, number] | null>(null);
  let colour = $state<string | null>(null);

  const path = $derived({ estate: session.estate, forecast: forecast.id });
  // The legends do not change with each site that is done: one is enough.
  const begun = $derived(forecast.sites_done > 0 || forecast.coarse);
  const legends = resource(async () =>
    begun ? (await call(api.GET("/api/v1/estates/{estate}/forecasts/{forecast}/layers", { params: { path } }))).layers : [],
  );
  const legend = $derived(legends.value?.find((one) => one.layer === layer));
  const under = $derived(colour ? legend?.classes.find((one) => one.colour === colour)?.words : undefined);

  const over = $derived(
    begun && forecast.extent
      ? {
          url: `/api/v1/estates/${encodeURIComponent(session.estate)}/forecasts/${forecast.id}/tiles/{z}/{x}/{y}?layer=${layer}&sites_done=${forecast.sites_done}`,
          extent: forecast.extent,
          maxLevel: MAX_LEVEL,
        }
      : null,
  );
  const points = $derived(sitePoints(forecast.sites));

  const said = resource(async () => {
    if (!chosen || !begun) return null;
    const query = { latitude_deg: chosen[0], longitude_deg: chosen[1] };
    const answer = await call(api.GET("/api/v1/estates/{estate}/forecasts/{forecast}/place", { params: { path, query } }));
    return { answer, place: chosen };
  });

  function choose(wanted: ForecastLayer) {
    layer = wanted;
    const query = new URLSearchParams(page.url.search);
    query.set("layer", wanted);
    void goto(`?${query}`, { replace: true, reset: false });
  }
</script>

<div class="mb-2 flex flex-wrap items-center gap-x-5 gap-y-2">
  <label class="flex items-center gap-2 text-sm">
    Layer
    <select class="select select-sm w-48" name="layer" value={layer} onchange={(event) => choose(event.currentTarget.value as ForecastLayer)}>
      {#each legends.value ?? [] as one (one.layer)}<option value={one.layer}>{layerWord(one.layer)}</option>{/each}
    </select>
  </label>
  <label class="flex items-center gap-2 text-sm">
    Opacity
    <input class="range range-xs w-32" type="range" min="0" max="100" aria-label="Opacity in percent" bind:value={opacity} />
  </label>
  <p class="text-sm tabular-nums" aria-live="off" data-under>{under ? `Under the pointer: ${under}` : "Click a place to see its links."}</p>
</div>
<Notice text={legends.problem || said.problem} />
<div class="flex flex-col gap-4 lg:flex-row">
  <div class="min-w-0 flex-1">
    <PlaceMap
      {points}
      {over}
      {chosen}
      opacity={opacity / 100}
      label="Map of the forecast"
      height="30rem"
      pick={(latitude, longitude) => (chosen = [latitude, longitude])}
      pointed={(found) => (colour = found)}
    />
  </div>
  {#if legend}
    <Legend title={legend.title} classes={legend.classes} name={legend.layer} />
  {/if}
</div>
{#if said.value}<PlaceReport said={said.value.answer} place={said.value.place} />{/if}
