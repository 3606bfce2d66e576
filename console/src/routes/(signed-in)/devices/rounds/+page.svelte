<script lang="ts">
  import { page } from "$app/state";
  import { api, call } from "#lib/api.ts";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import Empty from "#lib/components/common/Empty.svelte";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import RoundForm from "#lib/components/device/RoundForm.svelte";
  import RoundProgress from "#lib/components/device/RoundProgress.svelte";
  import State from "#lib/components/common/State.svelte";
  import { moment, roundWords } from "#lib/format.ts";
  import { Action, resource, showMore } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  const path = $derived({ estate: session.estate });
  /** A fleet's page leads here with the form open. */
  const fleet = page.url.searchParams.get("fleet") ?? "";
  let open = $state(fleet !== "");

  const fetchPage = (after?: string) => call(api.GET("/api/v1/estates/{estate}/rounds", { params: { path, query: { limit: 50, after } } }));
  const held = resource(() => fetchPage(), { on: (message) => message.type === "downlink", everyMs: 5000 });
  const act = new Action();
</script>

<svelte:head><title>Rounds · Keen Heron</title></svelte:head>

<p class="mb-1 text-sm"><a class="link link-hover" href="/devices">Devices</a> ›</p>
<div class="mb-3 flex flex-wrap items-center gap-3">
  <h1>Rounds</h1>
  {#if session.may("send")}
    <button class="btn ml-auto btn-sm btn-primary" aria-expanded={open} onclick={() => (open = !open)}>Send to many devices</button>
  {/if}
</div>
<Notice text={act.problem || held.problem} />
{#if open}<RoundForm {fleet} />{/if}
{#if held.value?.items.length === 0}
  <Empty title="No round yet">
    <p class="my-2">A round sends one downlink to each device of a fleet, of a model or with a tag, spread over time so that the airtime lasts.</p>
    <code class="block rounded-field bg-base-200 p-3 font-mono text-sm">heron round add --fleet grazing --port 10 --payload 01</code>
  </Empty>
{:else if held.value}
  <DataTable class="">
    {#snippet head()}<th>Begun</th><th>To</th><th>State</th><th class="hidden sm:table-cell">Progress</th><th class="hidden md:table-cell">By</th>{/snippet}
    {#each held.value.items as round (round.id)}
      <tr data-round={round.id}>
        <td class="whitespace-nowrap tabular-nums"><a class="link font-semibold link-hover" href="/devices/rounds/{round.id}">{moment(round.begun_at)}</a></td>
        <td>{roundWords(round.wanted)}</td>
        <td><State state={round.state} /></td>
        <td class="hidden sm:table-cell"><span class="flex flex-wrap items-center gap-x-3"><RoundProgress {round} /></span></td>
        <td class="hidden md:table-cell">{round.begun_by}</td>
      </tr>
    {/each}
  </DataTable>
  {#if held.value.next}<button class="btn mt-3" onclick={() => act.run(() => showMore(held, fetchPage))}>Show more</button>{/if}
{:else if !held.problem}
  <Loading />
{/if}
