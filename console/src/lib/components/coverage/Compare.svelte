<!-- A forecast beside another one or beside the survey, or the difference of both; with one view and one pointer. -->
<script lang="ts">
  import { page } from "$app/state";
  import { keepInAddress } from "#lib/address.ts";
  import { api, call, type Forecast } from "#lib/api.ts";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import PlaceMap from "#lib/components/common/PlaceMap.svelte";
  import Legend from "#lib/components/coverage/Legend.svelte";
  import { moment } from "#lib/format.ts";
  import { resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { sitePoints } from "#lib/sites.ts";
  import { Together } from "#lib/together.svelte.ts";

  let { forecast, others }: { forecast: Forecast; others: Forecast[] } = $props();

  const MAX_LEVEL = 16;
  /** What of the survey answers to the margin of a forecast. */
  const MEASURED = "reserve";
  const SURVEY = "survey";
  /** The uplinks of the last seven days, by whole hours. */
  const HOUR_MS = 3_600_000;
  const since = new Date((Math.floor(Date.now() / HOUR_MS) - 7 * 24) * HOUR_MS).toISOString();
  const chosen = $derived(page.url.searchParams.get("with") ?? "");
  const other = $derived(others.find((one) => one.id === chosen));
  let how = $state<"beside" | "difference">("beside");
  const together = new Together();

  const path = $derived({ estate: session.estate, forecast: forecast.id });
  const base = $derived(`/api/v1/estates/${encodeURIComponent(session.estate)}`);
  const measured = resource(async () =>
    chosen === SURVEY ? await call(api.GET("/api/v1/estates/{estate}/forecasts/{forecast}/survey", { params: { path, query: { since } } })) : null,
  );
  const compared = resource(async () =>
    other ? await call(api.GET("/api/v1/estates/{estate}/forecasts/{forecast}/comparison", { params: { path, query: { with: other.id } } })) : null,
  );
  const legends = resource(async () => (await call(api.GET("/api/v1/estates/{estate}/forecasts/{forecast}/layers", { params: { path } }))).layers);
  const margin = $derived(legends.value?.find((one) => one.layer === "margin"));
  const difference = $derived(measured.value?.legend ?? compared.value?.legend ?? []);

  const tiles = (address: string) => (forecast.extent ? { url: `${base}/${address}`, extent: forecast.extent, maxLevel: MAX_LEVEL } : null);
  const left = $derived(tiles(`forecasts/${forecast.id}/tiles/{z}/{x}/{y}?layer=margin`));
  const right = $derived(
    chosen === SURVEY
      ? tiles(`survey/tiles/{z}/{x}/{y}?quantity=${MEASURED}&since=${since}`)
      : other?.extent
        ? { url: `${base}/forecasts/${other.id}/tiles/{z}/{x}/{y}?layer=margin`, extent: other.extent, maxLevel: MAX_LEVEL }
        : null,
  );
  const both = $derived(tiles(`forecasts/${forecast.id}/differences/{z}/{x}/{y}?${other ? `with=${other.id}` : `since=${since}`}`));
  const name = (one: Forecast) => `${one.wanted.name || one.sites.map((site) => site.name).join(", ")} · ${moment(one.begun_at)}`;
  const db = (value: number | null | undefined) => (value == null ? "–" : `${value > 0 ? "+" : ""}${value.toFixed(1)} dB`);
</script>

<div class="mb-3 flex flex-wrap items-center gap-x-5 gap-y-2">
  <label class="flex items-center gap-2 text-sm">
    Compare with
    <select class="select select-sm w-72 max-w-full" name="with" value={chosen} onchange={(event) => keepInAddress("with", event.currentTarget.value)}>
      <option value="">nothing</option>
      <option value={SURVEY}>the survey</option>
      {#each others as one (one.id)}<option value={one.id}>{name(one)}</option>{/each}
    </select>
  </label>
  {#if chosen}
    <div class="join" role="group" aria-label="How to compare">
      <button class="btn join-item btn-sm {how === 'beside' ? 'btn-neutral' : ''}" aria-pressed={how === "beside"} onclick={() => (how = "beside")}>
        Side by side
      </button>
      <button class="btn join-item btn-sm {how === 'difference' ? 'btn-neutral' : ''}" aria-pressed={how === "difference"} onclick={() => (how = "difference")}>
        Difference
      </button>
    </div>
  {/if}
</div>
<Notice text={measured.problem || compared.problem || legends.problem} />
{#if chosen}
  {@const points = sitePoints(forecast.sites)}
  <div class="flex flex-col gap-4 lg:flex-row" data-compare={how}>
    {#if how === "beside"}
      <div class="grid min-w-0 flex-1 gap-3 md:grid-cols-2">
        <figure class="min-w-0">
          <figcaption class="mb-1 text-sm font-semibold">Forecast: {name(forecast)}</figcaption>
          <PlaceMap {points} over={left} {together} label="Map of the forecast to compare" height="24rem" />
        </figure>
        <figure class="min-w-0">
          <figcaption class="mb-1 text-sm font-semibold">
            {other ? `Forecast: ${name(other)}` : "Survey of seven days: margin at full power and the slowest data rate"}
          </figcaption>
          <PlaceMap points={other ? sitePoints(other.sites) : points} over={right} {together} label="Map of what it is compared with" height="24rem" />
        </figure>
      </div>
      {#if margin}<Legend title={margin.title} classes={margin.classes} name="margin" />{/if}
    {:else}
      <div class="min-w-0 flex-1"><PlaceMap {points} over={both} label="Map of the difference" height="28rem" opacity={0.8} /></div>
      <Legend title={other ? "This one less the other" : "Measured less forecast"} classes={difference} name="difference" />
    {/if}
  </div>
  {#if measured.value}
    {@const said = measured.value}
    <p class="mt-3 text-sm" data-middle>
      Measured in the last seven days less forecast, in {said.compared} hexagons and gateways:
      <span class="font-semibold tabular-nums">{db(said.middle_db)}</span>
      in the middle,
      <span class="tabular-nums">{said.spread_db?.toFixed(1) ?? "–"} dB</span> around it.
      {#each said.gateways as one (one.gateway_eui)}<span class="ml-3 whitespace-nowrap tabular-nums">{one.gateway} {db(one.middle_db)}</span>{/each}
    </p>
    {#if said.worse.length > 0}
      <h3 class="mt-4 mb-1 font-semibold">Much worse than forecast</h3>
      <DataTable class="table-xs">
        {#snippet head()}<th>Place</th><th>Gateway</th><th class="text-right">Worse by</th><th>Why that may be</th>{/snippet}
        {#each said.worse.slice(0, 15) as one (`${one.latitude_deg},${one.longitude_deg},${one.gateway}`)}
          <tr data-worse={one.cause}>
            <td class="whitespace-nowrap tabular-nums">{one.latitude_deg.toFixed(4)}, {one.longitude_deg.toFixed(4)}</td>
            <td>{one.gateway}</td>
            <td class="text-right whitespace-nowrap tabular-nums">{one.unheard ? "at least " : ""}{(-one.difference_db).toFixed(0)} dB</td>
            <td>{one.words}</td>
          </tr>
        {/each}
      </DataTable>
      {#if said.worse.length > 15}<p class="mt-1 text-sm text-base-content/75">and {said.worse.length - 15} more</p>{/if}
    {/if}
  {:else if compared.value}
    {@const said = compared.value}
    <dl class="mt-3 flex flex-wrap gap-x-8 gap-y-1 text-sm" data-compared>
      {#each [{ words: "Only this one covers", amount: said.gained }, { words: "Only the other covers", amount: said.lost }, { words: "Both cover", amount: said.both }] as { words, amount } (words)}
        <div>
          <dt class="text-base-content/75">{words}</dt>
          <dd class="font-semibold tabular-nums">{amount.area_km2.toFixed(1)} km², {amount.devices} devices</dd>
        </div>
      {/each}
    </dl>
    {#if said.parameters.length > 0}
      <DataTable class="mt-3 table-xs">
        {#snippet head()}<th>What differs</th><th>This one</th><th>The other</th>{/snippet}
        {#each said.parameters as one (one.name)}
          <tr data-parameter={one.name}><td class="font-semibold">{one.name}</td><td>{one.this}</td><td>{one.other}</td></tr>
        {/each}
      </DataTable>
    {/if}
  {:else}
    <Loading />
  {/if}
{/if}
