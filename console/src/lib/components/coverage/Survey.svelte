<!-- The survey: coverage as the network's own uplinks tell it. -->
<script lang="ts">
  import { page } from "$app/state";
  import { keepInAddress } from "#lib/address.ts";
  import { api, call, type SurveyFilter } from "#lib/api.ts";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import Empty from "#lib/components/common/Empty.svelte";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import DriveTests from "#lib/components/coverage/DriveTests.svelte";
  import SurveyAreas from "#lib/components/coverage/SurveyAreas.svelte";
  import SurveyMap from "#lib/components/coverage/SurveyMap.svelte";
  import { day } from "#lib/format.ts";
  import { resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  const TIMES = [
    { id: "", words: "all that is kept", days: 0 },
    { id: "30d", words: "the last 30 days", days: 30 },
    { id: "7d", words: "the last 7 days", days: 7 },
    { id: "1d", words: "the last day", days: 1 },
  ];
  const HOUR_MS = 3_600_000;
  const path = $derived({ estate: session.estate });
  const of = (name: string) => page.url.searchParams.get(name) ?? "";
  const filter = $derived.by(() => {
    const days = TIMES.find((time) => time.id === of("time"))?.days ?? 0;
    const made: SurveyFilter = {};
    // By whole hours, so that tiles can be kept for a while.
    if (days > 0) made.since = new Date(Math.floor(Date.now() / HOUR_MS) * HOUR_MS - days * 24 * HOUR_MS).toISOString();
    if (of("device")) made.device = of("device");
    if (of("gateway")) made.gateway = of("gateway");
    if (of("rate")) made.data_rate = Number(of("rate"));
    return made;
  });
  const held = resource(() => call(api.GET("/api/v1/estates/{estate}/survey", { params: { path, query: filter } })));
  const known = resource(async () => (await call(api.GET("/api/v1/estates/{estate}/survey", { params: { path } }))).gateways.map((one) => one.gateway));
  const changes = resource(async () => (await call(api.GET("/api/v1/estates/{estate}/survey/changes", { params: { path } }))).items);
  const whole = $derived(held.problem === "" || held.value !== null);

  const sent = $derived((held.value?.uplinks ?? 0) + (held.value?.lost ?? 0));
</script>

<div class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2 text-sm">
  <label class="flex items-center gap-2">
    Time
    <select class="select select-sm w-44" name="time" value={of("time")} onchange={(event) => keepInAddress("time", event.currentTarget.value)}>
      {#each TIMES as time (time.id)}<option value={time.id}>{time.words}</option>{/each}
    </select>
  </label>
  <label class="flex items-center gap-2">
    Gateway
    <select class="select select-sm w-40" name="gateway" value={of("gateway")} onchange={(event) => keepInAddress("gateway", event.currentTarget.value)}>
      <option value="">all</option>
      {#each known.value ?? [] as name (name)}<option value={name}>{name}</option>{/each}
    </select>
  </label>
  <label class="flex items-center gap-2">
    Data rate
    <select class="select select-sm w-24" name="rate" value={of("rate")} onchange={(event) => keepInAddress("rate", event.currentTarget.value)}>
      <option value="">all</option>
      {#each [0, 1, 2, 3, 4, 5, 6] as rate (rate)}<option value={String(rate)}>DR{rate}</option>{/each}
    </select>
  </label>
  <label class="flex items-center gap-2">
    Device
    <input
      class="input input-sm w-40"
      name="device"
      value={of("device")}
      placeholder="all"
      onchange={(event) => keepInAddress("device", event.currentTarget.value.trim())}
    />
  </label>
</div>
<Notice text={held.problem || changes.problem} />
{#if held.value}
  {@const survey = held.value}
  {#if sent === 0 && Object.keys(filter).length === 0}
    <Empty title="Nothing is surveyed here yet">
      <p class="my-2">Each uplink is evidence: of devices with a place, of devices that tell their position, and of drive tests.</p>
    </Empty>
  {:else}
    <p class="mb-3 text-sm text-base-content/75" data-survey>
      <span class="font-semibold text-base-content tabular-nums">{survey.uplinks.toLocaleString("en-GB")} uplinks</span> of {survey.devices} devices{survey.from
        ? `, ${day(survey.from)} to ${day(survey.until ?? survey.from)}`
        : ""}; {survey.lost.toLocaleString("en-GB")} were lost ({((100 * survey.lost) / Math.max(1, sent)).toFixed(1)} %).
      {#if survey.cut}The latest million counts.{/if}
      {#each survey.refused as left (left.reason)}
        {left.count} were left out: {left.reason}.
      {/each}
    </p>
    <SurveyMap {survey} {filter} />
    {#if changes.value && changes.value.length > 0}
      <h2 class="mt-6 mb-2">Changes of signal</h2>
      <ul class="space-y-1">
        {#each changes.value as one (one.eui + one.since)}
          <li class="border-l-4 pl-3 {one.change_db < 0 ? 'border-warning' : 'border-base-300'}" data-change={one.name}>
            <span class="tabular-nums">{day(one.since)}:</span>
            {one.what}
            <span class="text-base-content/75">{one.next_step}</span>
            <a class="link" href={one.kind === "gateway" ? `/gateways/${one.eui}` : `/devices/${one.eui}`}>To {one.name}</a>
          </li>
        {/each}
      </ul>
    {/if}
    <h2 class="mt-6 mb-2">Weak and dark areas</h2>
    <SurveyAreas {filter} />
    <h2 class="mt-6 mb-2">Gateways</h2>
    <DataTable>
      {#snippet head()}<th>Gateway</th><th class="text-right">Uplinks heard</th><th class="text-right">Devices</th><th class="text-right">Noise</th><th
          class="hidden text-right sm:table-cell">Above a good receiver's</th
        >{/snippet}
      {#each survey.gateways as one (one.gateway_eui)}
        <tr data-noise-of={one.gateway}>
          <td class="font-semibold">{one.gateway}</td>
          <td class="text-right tabular-nums">{one.heard.toLocaleString("en-GB")}</td>
          <td class="text-right tabular-nums">{one.devices}</td>
          <td class="text-right tabular-nums">{one.noise_dbm == null ? "–" : `${one.noise_dbm.toFixed(1)} dBm`}</td>
          <td class="hidden text-right tabular-nums sm:table-cell">{one.noise_above_db == null ? "–" : `${Math.max(0, one.noise_above_db).toFixed(1)} dB`}</td>
        </tr>
      {/each}
    </DataTable>
  {/if}
{:else if whole}
  <Loading />
{/if}
<h2 class="mt-6 mb-2">Drive tests</h2>
<DriveTests changed={() => void held.load()} />
