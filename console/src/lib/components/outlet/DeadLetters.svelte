<!-- Messages that an outlet has given up: each can be tried once more, or removed. -->
<script lang="ts">
  import { api, call } from "#lib/api.ts";
  import Confirm from "#lib/components/common/Confirm.svelte";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import Exchange from "#lib/components/outlet/Exchange.svelte";
  import { moment } from "#lib/format.ts";
  import { Action, resource, showMore } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  let { outlet, changed }: { outlet: string; changed: () => void } = $props();
  const path = $derived({ estate: session.estate, outlet });
  const fetchPage = (after?: string) =>
    call(api.GET("/api/v1/estates/{estate}/outlets/{outlet}/dead-letters", { params: { path, query: { limit: 100, after } } }));
  const held = resource(() => fetchPage(), { everyMs: 5000 });
  const act = new Action();
  let open = $state("");
  let told = $state("");

  async function again(letter?: string) {
    const done = await act.run(() =>
      letter
        ? call(api.POST("/api/v1/estates/{estate}/outlets/{outlet}/dead-letters/{letter}/replay", { params: { path: { ...path, letter } } }))
        : call(api.POST("/api/v1/estates/{estate}/outlets/{outlet}/dead-letters/replay", { params: { path } })),
    );
    if (done) told = `${done.letters} ${done.letters === 1 ? "is" : "are"} tried once more; what is taken leaves this list.`;
    await held.load();
    changed();
  }

  async function remove(letter: string) {
    await act.run(() => call(api.DELETE("/api/v1/estates/{estate}/outlets/{outlet}/dead-letters/{letter}", { params: { path: { ...path, letter } } })));
    await held.load();
    changed();
  }
</script>

<Notice text={act.problem || held.problem} />
{#if held.value?.items.length === 0}
  <p class="text-base-content/75">There are none. A message that the other side does not take for as long as the settings say becomes one.</p>
{:else if held.value}
  <div class="mb-2 flex flex-wrap items-center gap-3">
    <button class="btn btn-sm" disabled={act.busy} onclick={() => again()} data-replay-all>Try all again</button>
    {#if told}<span class="text-sm text-base-content/80" role="status">{told}</span>{/if}
  </div>
  <DataTable data-dead-letters>
    {#snippet head()}<th>Given up</th><th>Message</th><th>Device</th><th class="text-right">Tries</th><th class="hidden sm:table-cell">Why</th><th
        ><span class="sr-only">Details</span></th
      >{/snippet}
    {#each held.value.items as letter (letter.id)}
      <tr>
        <td class="whitespace-nowrap tabular-nums">{moment(letter.given_up_at)}</td>
        <td>{letter.message.type}</td>
        <td class="whitespace-nowrap">{letter.message.device?.name ?? "–"}</td>
        <td class="text-right tabular-nums">{letter.tries}</td>
        <td class="hidden sm:table-cell">{letter.why}</td>
        <td class="text-right whitespace-nowrap">
          <button class="btn btn-ghost btn-xs" aria-expanded={open === letter.id} onclick={() => (open = open === letter.id ? "" : letter.id)}
            >{open === letter.id ? "Close" : "Details"}</button
          >
          <button class="btn btn-ghost btn-xs" disabled={act.busy} onclick={() => again(letter.id)}>Try again</button>
        </td>
      </tr>
      {#if open === letter.id}
        <tr>
          <td colspan="6">
            <Exchange request={letter.request} answer={letter.answer} />
            <div class="mt-3"><Confirm label="Remove" sure="Remove it" what="Its message is not delivered." run={() => remove(letter.id)} /></div>
          </td>
        </tr>
      {/if}
    {/each}
  </DataTable>
  {#if held.value.next}<button class="btn mt-3" onclick={() => act.run(() => showMore(held, fetchPage))}>Show more</button>{/if}
{:else if !held.problem}
  <Loading />
{/if}
