<script lang="ts">
  import { page } from "$app/state";
  import { api, call } from "#lib/api.ts";
  import Bytes from "#lib/components/common/Bytes.svelte";
  import Card from "#lib/components/common/Card.svelte";
  import Confirm from "#lib/components/common/Confirm.svelte";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import RoundProgress from "#lib/components/device/RoundProgress.svelte";
  import State from "#lib/components/common/State.svelte";
  import { duration, moment, roundWords } from "#lib/format.ts";
  import { Action, resource, showMore } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  const id = $derived(page.params.round ?? "");
  const path = $derived({ estate: session.estate, round: id });
  const again = { on: ({ type }: { type: string }) => type === "downlink", everyMs: 5000 };
  const held = resource(() => call(api.GET("/api/v1/estates/{estate}/rounds/{round}", { params: { path } })), again);
  const fetchPage = (after?: string) => call(api.GET("/api/v1/estates/{estate}/rounds/{round}/devices", { params: { path, query: { limit: 200, after } } }));
  const devices = resource(() => fetchPage(), again);
  const round = $derived(held.value);
  const act = new Action();

  const cancel = async () => {
    await act.run(() => call(api.DELETE("/api/v1/estates/{estate}/rounds/{round}", { params: { path } })));
    await Promise.all([held.load(), devices.load()]);
  };
</script>

<svelte:head><title>Round · Keen Heron</title></svelte:head>

<p class="mb-1 text-sm"><a class="link link-hover" href="/devices">Devices</a> › <a class="link link-hover" href="/devices/rounds">Rounds</a> ›</p>
<Notice text={act.problem || held.problem || devices.problem} />
{#if round}
  {@const { downlink } = round.wanted}
  <div class="mb-3 flex flex-wrap items-baseline gap-x-5 gap-y-1">
    <h1>To {roundWords(round.wanted)}</h1>
    <State state={round.state} />
  </div>
  <Card class="mb-4" data-round={round.state}>
    <p class="flex flex-wrap items-center gap-x-3"><RoundProgress {round} /></p>
    <p class="mt-2">
      It sends
      {#if downlink.values}<code class="font-mono">{JSON.stringify(downlink.values)}</code>
      {:else if downlink.payload}<Bytes hex={downlink.payload} />
      {:else}<code class="font-mono">{downlink.text ?? downlink.payload_base64 ?? ""}</code>{/if}
      {downlink.port ? `on port ${downlink.port}` : "on the port that the encoder says"}{downlink.confirmed ? ", confirmed" : ""}, to
      {round.devices}
      {round.devices === 1 ? "device" : `devices over ${duration(round.over_s)}`}.
    </p>
    <p class="text-sm text-base-content/75">
      Begun {moment(round.begun_at)} by {round.begun_by}{round.ended_at ? `, ended ${moment(round.ended_at)}` : ""}
    </p>
    {#if round.state === "running" && session.may("send")}
      <div class="mt-2"><Confirm label="Stop" what="What still waits is cancelled; what was sent stays sent." sure="Stop the round" run={cancel} /></div>
    {/if}
  </Card>
  {#if devices.value}
    <DataTable>
      {#snippet head()}<th>Device</th><th>Outcome</th><th class="hidden sm:table-cell">Turn</th><th class="hidden sm:table-cell">Note</th>{/snippet}
      {#each devices.value.items as one (one.dev_eui)}
        <tr data-device={one.name}>
          <td><a class="link font-semibold whitespace-nowrap link-hover" href="/devices/{one.dev_eui}?tab=outbox">{one.name}</a></td>
          <td><State state={one.state ?? (one.note ? "not_sent" : "planned")} /></td>
          <td class="hidden whitespace-nowrap tabular-nums sm:table-cell">{moment(one.due_at)}</td>
          <td class="hidden sm:table-cell">{one.note ?? "–"}</td>
        </tr>
        {#if one.note}<tr class="sm:hidden"><td colspan="2" class="pt-0 text-sm">{one.note}</td></tr>{/if}
      {/each}
    </DataTable>
    {#if devices.value.next}<button class="btn mt-3" onclick={() => act.run(() => showMore(devices, fetchPage))}>Show more</button>{/if}
  {/if}
{:else if !held.problem}
  <Loading />
{/if}
