<!-- The survey on the map: hexagons by one quantity, and what was measured at a place. -->
<script lang="ts">
  import { page } from "$app/state";
  import { goto } from "$app/navigation";
  import { api, call, type SurveyFilter, type SurveyQuantity, type SurveySummary } from "#lib/api.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import PlaceMap from "#lib/components/common/PlaceMap.svelte";
  import Legend from "#lib/components/coverage/Legend.svelte";
  import SurveyPlaceReport from "#lib/components/coverage/SurveyPlaceReport.svelte";
  import { resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { sitePoints } from "#lib/sites.ts";

  let { survey, filter }: { survey: SurveySummary; filter: SurveyFilter } = $props();

  /** The finest tiles; beyond them the browser enlarges. */
  const MAX_LEVEL = 16;
  let quantity = $state((page.url.searchParams.get("quantity") ?? "margin") as SurveyQuantity);
  let opacity = $state(75);
  let chosen = $state<[number, number] | null>(null);
  let colour = $state<string | null>(null);

  const path = $derived({ estate: session.estate });
  const sites = resource(async () => (await call(api.GET("/api/v1/estates/{estate}/sites", { params: { path, query: { limit: 500 } } }))).items);
  const legend = $derived(survey.legends.find((one) => one.quantity === quantity));
  const under = $derived(colour ? legend?.classes.find((one) => one.colour === colour)?.words : undefined);
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

  function choose(wanted: SurveyQuantity) {
    quantity = wanted;
    const query = new URLSearchParams(page.url.search);
    query.set("quantity", wanted);
    void goto(`?${query}`, { replace: true, reset: false });
  }
</script>

<div class="mb-2 flex flex-wrap items-center gap-x-5 gap-y-2">
  <label class="flex items-center gap-2 text-sm">
    Colour by
    <select class="select select-sm w-64" name="quantity" value={quantity} onchange={(event) => choose(event.currentTarget.value as SurveyQuantity)}>
      {#each survey.legends as one (one.quantity)}<option value={one.quantity}>{one.title}</option>{/each}
    </select>
  </label>
  <label class="flex items-center gap-2 text-sm">
    Opacity
    <input class="range range-xs w-32" type="range" min="0" max="100" aria-label="Opacity in percent" bind:value={opacity} />
  </label>
  <p class="text-sm tabular-nums" aria-live="off" data-under>{under ? `Under the pointer: ${under}` : "Click a place to see what was measured there."}</p>
</div>
<Notice text={sites.problem || said.problem} />
<div class="flex flex-col gap-4 lg:flex-row">
  <div class="min-w-0 flex-1">
    <PlaceMap
      {points}
      {over}
      {chosen}
      opacity={opacity / 100}
      label="Map of the survey"
      height="30rem"
      pick={(latitude, longitude) => (chosen = [latitude, longitude])}
      pointed={(found) => (colour = found)}
    />
  </div>
  {#if legend}<Legend title={legend.title} classes={legend.classes} name={legend.quantity} />{/if}
</div>
{#if said.value}<SurveyPlaceReport said={said.value.answer} place={said.value.place} />{/if}
