<!-- What an outlet has delivered lately, with the request and the answer behind each line. -->
<script lang="ts">
  import { api, call } from "#lib/api.ts";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import Exchange from "#lib/components/outlet/Exchange.svelte";
  import { moment } from "#lib/format.ts";
  import { resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  let { outlet }: { outlet: string } = $props();
  const held = resource(() => call(api.GET("/api/v1/estates/{estate}/outlets/{outlet}/deliveries", { params: { path: { estate: session.estate, outlet } } })), {
    everyMs: 3000,
  });
  let open = $state("");
</script>

<Notice text={held.problem} />
{#if held.value?.items.length === 0}
  <p class="text-base-content/75">Nothing was delivered since the service was started. <b>Test</b> sends a rehearsal at once.</p>
{:else if held.value}
  <DataTable data-deliveries>
    {#snippet head()}<th>When</th><th>Outcome</th><th class="text-right">Took</th><th class="hidden text-right sm:table-cell">Messages</th><th
        class="hidden sm:table-cell">Why</th
      ><th><span class="sr-only">Details</span></th>{/snippet}
    {#each held.value.items as one (one.at + one.messages.join())}
      {@const key = one.at + one.messages.join()}
      <tr>
        <td class="whitespace-nowrap tabular-nums">{moment(one.at)}</td>
        <td class="whitespace-nowrap {one.delivered ? 'text-success' : 'text-error'}"
          >{one.delivered ? "✓ taken" : "✕ not taken"}{one.answer ? ` (${one.answer.status})` : ""}</td
        >
        <td class="text-right whitespace-nowrap tabular-nums">{one.took_ms.toFixed(1)} ms</td>
        <td class="hidden text-right tabular-nums sm:table-cell">{one.messages.length}</td>
        <td class="hidden sm:table-cell">{one.why ?? "–"}</td>
        <td class="text-right"
          ><button class="btn btn-ghost btn-xs" aria-expanded={open === key} onclick={() => (open = open === key ? "" : key)}
            >{open === key ? "Close" : "Details"}</button
          ></td
        >
      </tr>
      {#if open === key}<tr><td colspan="6"><Exchange request={one.request} answer={one.answer} /></td></tr>{/if}
    {/each}
  </DataTable>
{:else if !held.problem}
  <Loading />
{/if}
