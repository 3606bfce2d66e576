<script lang="ts">
  import { goto } from "$app/navigation";
  import { page } from "$app/state";
  import { api, call, every } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Confirm from "#lib/components/common/Confirm.svelte";
  import FleetForm from "#lib/components/device/FleetForm.svelte";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import State from "#lib/components/common/State.svelte";
  import { day, keptWords, limitWords } from "#lib/format.ts";
  import { Action, resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  const slug = $derived(page.params.fleet ?? "");
  const path = $derived({ estate: session.estate, fleet: slug });
  const held = resource(() => call(api.GET("/api/v1/estates/{estate}/fleets/{fleet}", { params: { path } })));
  const devices = resource(() =>
    every((query) => call(api.GET("/api/v1/estates/{estate}/devices", { params: { path: { estate: session.estate }, query: { ...query, fleet: slug } } }))),
  );
  const shares = resource(async () => {
    if (!session.may("people")) return [];
    const all = await every((query) => call(api.GET("/api/v1/estates/{estate}/shares", { params: { path: { estate: session.estate }, query } })));
    return all.filter(({ scope }) => typeof scope === "object" && "fleet" in scope && scope.fleet === slug);
  });
  const fleet = $derived(held.value);
  const act = new Action();

  /** How many devices are in each state. */
  const states = $derived.by(() => {
    const counts = new Map<string, number>();
    for (const { state } of devices.value ?? []) counts.set(state, (counts.get(state) ?? 0) + 1);
    return [...counts];
  });

  const remove = () =>
    act.run(async () => {
      await call(api.DELETE("/api/v1/estates/{estate}/fleets/{fleet}", { params: { path } }));
      await goto("/devices/fleets");
    });

  async function changed(now: string) {
    if (now === slug) await held.load();
    else await goto(`/devices/fleets/${now}`, { replace: true });
  }
</script>

<svelte:head><title>{fleet?.name ?? slug} · Keen Heron</title></svelte:head>

<p class="mb-1 text-sm"><a class="link link-hover" href="/devices">Devices</a> › <a class="link link-hover" href="/devices/fleets">Fleets</a> ›</p>
<h1 class="mb-3">{fleet?.name ?? slug}</h1>
<Notice text={act.problem || held.problem || devices.problem || shares.problem} />
{#if fleet}
  <div class="grid items-start gap-5 lg:grid-cols-[1.15fr_1fr]">
    <div class="grid gap-5">
      <Card title="Devices" data-devices>
        {#if fleet.devices === 0}
          <p>No device is in this fleet. <a class="link" href="/devices">Register one</a>, or move some here from the list.</p>
        {:else}
          <p class="flex flex-wrap items-center gap-x-4 gap-y-1">
            <a class="link font-semibold" href="/devices?fleet={slug}">{fleet.devices} {fleet.devices === 1 ? "device" : "devices"}</a>
            {#each states as [state, count] (state)}
              <a class="link-hover flex items-center gap-1" href="/devices?fleet={slug}&state={state}"><State {state} /> {count}</a>
            {/each}
            <a class="link" href="/devices?fleet={slug}&view=map">On the map</a>
            {#if session.may("send")}<a class="link" href="/devices/rounds?fleet={slug}">Send to all of them</a>{/if}
          </p>
        {/if}
      </Card>
      {#if session.may("devices")}
        <FleetForm {fleet} done={changed} />
      {:else}
        <Card title="Limits and retention">
          <p>Each device, in any 24 hours: {limitWords(fleet)}.</p>
          <p>Kept: {keptWords(fleet.retention)}.</p>
        </Card>
      {/if}
    </div>
    <div class="grid gap-5">
      <Card title="People" data-people>
        <p>Every member of <span class="capitalize">{session.estateName}</span> sees it, as far as their <a class="link" href="/people">role</a> allows.</p>
        {#if shares.value && shares.value.length > 0}
          <ul class="mt-2">
            {#each shares.value as one (one.id)}
              <li class="border-t border-base-300 py-1.5">
                <b class="font-semibold">{one.person}</b> may {one.may}
                <span class="text-sm text-base-content/75">{one.until ? `until ${day(one.until)}` : "without an end"}, by {one.by}</span>
              </li>
            {/each}
          </ul>
        {:else if session.may("people")}
          <p class="mt-2 text-base-content/75">It is shared with nobody else.</p>
        {/if}
        {#if session.may("people")}<p class="mt-2"><a class="link" href="/people">Share it</a></p>{/if}
      </Card>
      {#if session.may("devices")}
        <Card title="Remove">
          <p class="mb-2">A fleet can be removed once it has no devices. Stored messages keep its name.</p>
          <Confirm label="Remove" what="The fleet {fleet.name} will be removed." sure="Remove {fleet.name}" disabled={fleet.devices > 0} run={remove} />
        </Card>
      {/if}
    </div>
  </div>
{:else if !held.problem}
  <Loading />
{/if}
