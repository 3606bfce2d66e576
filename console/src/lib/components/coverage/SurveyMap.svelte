<!-- The survey on the map: hexagons by one quantity, and what was measured at a place. -->
<script lang="ts">
  import { page } from "$app/state";
  import { keepInAddress } from "#lib/address.ts";
  import { api, call, type SurveyFilter, type SurveyQuantity, type SurveySummary } from "#lib/api.ts";
  import LayerMap from "#lib/components/coverage/LayerMap.svelte";
  import SurveyPlaceReport from "#lib/components/coverage/SurveyPlaceReport.svelte";
  import { resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { sitePoints } from "#lib/sites.ts";

  let { survey, filter }: { survey: SurveySummary; filter: SurveyFilter } = $props();

  /** The finest tiles; beyond them the browser enlarges. */
  const MAX_LEVEL = 16;
  let quantity = $state((page.url.searchParams.get("quantity") ?? "margin") as SurveyQuantity);
  let chosen = $state<[number, number] | null>(null);

  const path = $derived({ estate: session.estate });
  const sites = resource(async () => (await call(api.GET("/api/v1/estates/{estate}/sites", { params: { path, query: { limit: 500 } } }))).items);
  const legend = $derived(survey.legends.find((one) => one.quantity === quantity));
  const asked = $derived(new URLSearchParams({ quantity, ...Object.fromEntries(Object.entries(filter).map(([name, value]) => [name, String(value)])) }));
  const over = $derived(
    survey.extent
      ? { url: `/api/v1/estates/${encodeURIComponent(session.estate)}/survey/tiles/{z}/{x}/{y}?${asked}`, extent: around(survey.extent), maxLevel: MAX_LEVEL }
      : null,
  );
  const points = $derived(sitePoints((sites.value ?? []).filter((site) => site.gateway)));

  /** Hexagons reach a little beyond the places in them. */
  function around(extent: NonNullable<SurveySummary["extent"]>) {
    const more = 0.02;
    const { south_deg, west_deg, north_deg, east_deg } = extent;
    return { south_deg: south_deg - more, west_deg: west_deg - more, north_deg: north_deg + more, east_deg: east_deg + more };
  }

  const said = resource(async () => {
    if (!chosen) return null;
    const query = { latitude_deg: chosen[0], longitude_deg: chosen[1], ...filter };
    const answer = await call(api.GET("/api/v1/estates/{estate}/survey/place", { params: { path, query } }));
    return { answer, place: chosen };
  });

  function choose(wanted: string) {
    quantity = wanted as SurveyQuantity;
    keepInAddress("quantity", wanted);
  }
</script>

<LayerMap
  {points}
  {over}
  bind:chosen
  label="Colour by"
  name="quantity"
  choices={survey.legends.map((one) => ({ id: one.quantity, words: one.title }))}
  value={quantity}
  {choose}
  {legend}
  map="Map of the survey"
  hint="Click a place to see what was measured there."
  problem={sites.problem || said.problem}
/>
{#if said.value}<SurveyPlaceReport said={said.value.answer} place={said.value.place} />{/if}
