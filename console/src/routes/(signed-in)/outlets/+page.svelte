<script lang="ts">
  import { goto } from "$app/navigation";
  import { api, call, every } from "#lib/api.ts";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import Empty from "#lib/components/common/Empty.svelte";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import State from "#lib/components/common/State.svelte";
  import OutletForm from "#lib/components/outlet/OutletForm.svelte";
  import { ago, moment, waiting } from "#lib/format.ts";
  import { live } from "#lib/live.svelte.ts";
  import { place } from "#lib/outlet.svelte.ts";
  import { resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  const path = $derived({ estate: session.estate });
  const held = resource(() => every((query) => call(api.GET("/api/v1/estates/{estate}/outlets", { params: { path, query } }))), { everyMs: 5000 });
  const outlets = $derived(held.value);
  let adding = $state(false);
</script>

<svelte:head><title>Outlets · Keen Heron</title></svelte:head>

<div class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
  <h1>Outlets</h1>
  <a class="btn btn-sm ml-auto" href="/outlets/connect">Fetch messages instead</a>
  {#if session.may("outlets")}
    <button class="btn btn-sm btn-primary" type="button" aria-expanded={adding} onclick={() => (adding = !adding)}>Add outlet</button>
  {/if}
</div>
<Notice text={held.problem} />
{#if adding}
  <div class="mb-5">
    <OutletForm done={(made) => goto(`/outlets/${made.slug}`)} cancel={() => (adding = false)} />
  </div>
{/if}

{#if outlets?.length === 0}
  <Empty title="No outlet yet">
    <p class="mt-2 max-w-prose">
      An outlet delivers messages to another system as they come: readings, joins, refused frames, downlinks. Each message arrives at least once and in order
      for each device; while the other side is away, messages wait. Add one with the address of a web server, of an MQTT broker or of a database, and press <b
        >Test</b
      >. A program without a server of its own can <a class="link" href="/outlets/connect">fetch messages</a>.
    </p>
  </Empty>
{:else if outlets}
  <DataTable class="" data-outlets>
    {#snippet head()}<th>Name</th><th>State</th><th class="text-right">Waiting</th><th class="text-right">Dead letters</th><th class="hidden sm:table-cell"
        >Last delivered</th
      ><th class="hidden text-right md:table-cell">A minute</th><th class="hidden md:table-cell">Fleet</th><th class="hidden lg:table-cell">To</th>{/snippet}
    {#each outlets as outlet (outlet.slug)}
      {@const { status } = outlet}
      <tr data-outlet={outlet.slug}>
        <td class="font-semibold whitespace-nowrap"><a class="link-hover" href="/outlets/{outlet.slug}">{outlet.slug}</a></td>
        <td
          ><State state={status.state} />
          {#if status.why}<span class="block max-w-72 text-sm text-base-content/75">{status.why}</span>{/if}</td
        >
        <td class="text-right whitespace-nowrap tabular-nums">{waiting(status.backlog)}</td>
        <td class="text-right tabular-nums {status.dead_letters > 0 ? 'text-error' : ''}">{status.dead_letters}</td>
        <td class="hidden whitespace-nowrap tabular-nums sm:table-cell" title={status.last_delivered ? moment(status.last_delivered) : ""}
          >{ago(status.last_delivered, live.now)}</td
        >
        <td class="hidden text-right tabular-nums md:table-cell">{status.a_minute.toFixed(1)}</td>
        <td class="hidden md:table-cell">{outlet.fleet ?? "all"}</td>
        <td class="hidden max-w-64 truncate font-mono text-[0.85em] lg:table-cell" title={place(outlet.to)}>{place(outlet.to)}</td>
      </tr>
    {/each}
  </DataTable>
{:else if !held.problem}
  <Loading />
{/if}
