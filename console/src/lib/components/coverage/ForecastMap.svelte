<!-- A forecast on the map: one layer with its legend, and what is under the pointer. -->
<script lang="ts">
  import { page } from "$app/state";
  import { keepInAddress } from "#lib/address.ts";
  import { api, call, type Forecast, type ForecastLayer } from "#lib/api.ts";
  import LayerMap from "#lib/components/coverage/LayerMap.svelte";
  import PlaceReport from "#lib/components/coverage/PlaceReport.svelte";
  import { layerWord } from "#lib/format.ts";
  import { resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { sitePoints } from "#lib/sites.ts";

  let { forecast }: { forecast: Forecast } = $props();

  /** The finest tiles; beyond them the browser enlarges. */
  const MAX_LEVEL = 16;
  let layer = $state((page.url.searchParams.get("layer") ?? "margin") as ForecastLayer);
  let chosen = $state<[number, number] | null>(null);

  const path = $derived({ estate: session.estate, forecast: forecast.id });
  // The legends do not change with each site that is done: one is enough.
  const begun = $derived(forecast.sites_done > 0 || forecast.coarse);
  const legends = resource(async () =>
    begun ? (await call(api.GET("/api/v1/estates/{estate}/forecasts/{forecast}/layers", { params: { path } }))).layers : [],
  );
  const legend = $derived(legends.value?.find((one) => one.layer === layer));

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

  function choose(wanted: string) {
    layer = wanted as ForecastLayer;
    keepInAddress("layer", wanted);
  }
</script>

<LayerMap
  {points}
  {over}
  bind:chosen
  label="Layer"
  name="layer"
  choices={(legends.value ?? []).map((one) => ({ id: one.layer, words: layerWord(one.layer) }))}
  value={layer}
  {choose}
  {legend}
  map="Map of the forecast"
  hint="Click a place to see its links."
  problem={legends.problem || said.problem}
/>
{#if said.value}<PlaceReport said={said.value.answer} place={said.value.place} />{/if}
