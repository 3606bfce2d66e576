<script lang="ts">
  import { page } from "$app/state";
  import { goto } from "$app/navigation";
  import { api, call, type Forecast } from "#lib/api.ts";
  import Confirm from "#lib/components/common/Confirm.svelte";
  import Empty from "#lib/components/common/Empty.svelte";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import State from "#lib/components/common/State.svelte";
  import Tabs, { currentTab } from "#lib/components/common/Tabs.svelte";
  import Compare from "#lib/components/coverage/Compare.svelte";
  import Figures from "#lib/components/coverage/Figures.svelte";
  import ForecastForm from "#lib/components/coverage/ForecastForm.svelte";
  import ForecastMap from "#lib/components/coverage/ForecastMap.svelte";
  import Ground from "#lib/components/coverage/Ground.svelte";
  import Survey from "#lib/components/coverage/Survey.svelte";
  import Sites from "#lib/components/coverage/Sites.svelte";
  import WhereNext from "#lib/components/coverage/WhereNext.svelte";
  import Verdicts from "#lib/components/coverage/Verdicts.svelte";
  import { moment } from "#lib/format.ts";
  import { Action, resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  const TABS = [
    { id: "forecast", label: "Forecast" },
    { id: "survey", label: "Survey" },
    { id: "devices", label: "Devices" },
    { id: "sites", label: "Sites" },
    { id: "ground", label: "Ground" },
  ] as const;
  const tab = $derived(currentTab(TABS));

  const path = $derived({ estate: session.estate });
  const held = resource(async () => (await call(api.GET("/api/v1/estates/{estate}/forecasts", { params: { path, query: { limit: 100 } } }))).items);
  const asked = $derived(page.url.searchParams.get("forecast"));
  const shown = $derived(held.value?.find((one) => one.id === asked) ?? held.value?.[0]);
  const open = (forecast: Forecast) => forecast.state === "waiting" || forecast.state === "running";
  let adding = $state(false);
  const act = new Action();

  // While one is computed, it is asked for often enough to see each site come.
  const busy = $derived(held.value?.some(open) ?? false);
  $effect(() => {
    if (!busy) return;
    const timer = setInterval(held.load, 700);
    return () => clearInterval(timer);
  });

  const show = (id: string) => goto(`?forecast=${id}`, { replace: true, reset: false });

  async function made(forecast: Forecast) {
    adding = false;
    await held.load();
    await show(forecast.id);
  }

  async function remove(forecast: Forecast) {
    await act.run(() => call(api.DELETE("/api/v1/estates/{estate}/forecasts/{forecast}", { params: { path: { ...path, forecast: forecast.id } } })));
    await held.load();
  }

  function name(forecast: Forecast): string {
    return `${forecast.wanted.name || forecast.sites.map((site) => site.name).join(", ")} · ${moment(forecast.begun_at)}`;
  }
</script>

<svelte:head><title>Coverage · Keen Heron</title></svelte:head>

<div class="mb-3 flex flex-wrap items-center gap-3">
  <h1>Coverage</h1>
  {#if session.may("gateways") && tab === "forecast"}
    <button class="btn ml-auto btn-sm btn-primary" aria-expanded={adding} onclick={() => (adding = !adding)}>New forecast</button>
  {/if}
</div>
<Tabs tabs={TABS} label="Coverage" />
<Notice text={act.problem || held.problem} />
{#if tab === "survey"}
  <Survey />
{:else if tab === "devices"}
  <Verdicts />
{:else if tab === "sites"}
  <Sites />
{:else if tab === "ground"}
  <Ground />
{:else}
  {#if adding}<ForecastForm done={made} />{/if}
  {#if held.value?.length === 0}
    <Empty title="No forecast here yet">
      <p class="my-2">A forecast says where devices will be heard, by which site and at which data rate, from the terrain and from each site's antenna.</p>
      <code class="block rounded-field bg-base-200 p-3 font-mono text-sm">heron forecast add</code>
    </Empty>
  {:else if shown}
    <div class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2" data-forecast={shown.state}>
      <select class="select select-sm w-auto max-w-full" aria-label="Forecast" value={shown.id} onchange={(event) => show(event.currentTarget.value)}>
        {#each held.value ?? [] as one (one.id)}<option value={one.id}>{name(one)}</option>{/each}
      </select>
      <State state={shown.state} />
      {#if open(shown)}
        <progress class="progress w-40" value={shown.percent} max="100" aria-label="How much is computed"></progress>
        <span class="text-sm tabular-nums">{shown.sites_done} of {shown.sites.length} sites{shown.coarse ? ", the others coarse" : ""}</span>
      {/if}
      {#if session.may("gateways")}
        {@const stop = open(shown)}
        <Confirm
          label={stop ? "Stop" : "Remove"}
          what={stop ? "Finished sites are kept." : "The forecast and its figures are removed."}
          sure={stop ? "Stop the forecast" : "Remove the forecast"}
          run={() => remove(shown)}
        />
      {/if}
    </div>
    <p class="mb-3 text-sm text-base-content/75">
      {shown.wanted.receiver}, {shown.receiver.height_m} m above the ground · {shown.wanted.model?.replaceAll("_", " ").toUpperCase()} · {(
        (shown.wanted.reliability ?? 0.9) * 100
      ).toFixed(0)} % of places · {((shown.wanted.radius_m ?? 0) / 1000).toFixed(1)} km around each site in cells of {shown.wanted.cell_m} m{shown.sites_reused
        ? ` · ${shown.sites_reused} of ${shown.sites.length} sites known from before`
        : ""}
    </p>
    {#if shown.note}<p class="alert mb-3 alert-soft {shown.state === 'failed' ? 'alert-error' : 'alert-warning'}">{shown.note}</p>{/if}
    {#if shown.ground_changed}
      <p class="alert alert-soft mb-3 alert-warning" data-ground-changed>
        The files of the ground have changed since. Make the forecast again to see it on the present ground.
      </p>
    {/if}
    {#if shown.sites_done > 0 || shown.coarse}
      {#key shown.id}<ForecastMap forecast={shown} />{/key}
    {/if}
    <div class="mt-5"><Figures forecast={shown} /></div>
    {#if shown.state === "done"}
      <h2 class="mt-6 mb-2">Compare</h2>
      {#key shown.id}<Compare forecast={shown} others={(held.value ?? []).filter((one) => one.id !== shown.id && one.state === "done")} />{/key}
    {/if}
    {#if shown.state === "done" && shown.sites.length > 1}
      <h2 class="mt-6 mb-2">Where next</h2>
      {#key shown.id}<WhereNext forecast={shown} />{/key}
    {/if}
  {:else if !held.problem}
    <Loading />
  {/if}
{/if}
