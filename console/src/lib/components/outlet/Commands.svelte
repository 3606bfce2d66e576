<!-- Commands that came back from a broker, each with its answer. -->
<script lang="ts">
  import { api, call } from "#lib/api.ts";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import { moment } from "#lib/format.ts";
  import { resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  let { outlet }: { outlet: string } = $props();
  const path = $derived({ estate: session.estate, outlet });
  const held = resource(() => call(api.GET("/api/v1/estates/{estate}/outlets/{outlet}/commands", { params: { path } })), { everyMs: 3000 });
</script>

<Notice text={held.problem} />
{#if held.value?.items.length === 0}
  <p class="text-base-content/75">No command came since the service was started. <b>Connect</b> shows how one is sent.</p>
{:else if held.value}
  <DataTable data-commands>
    {#snippet head()}<th>When</th><th>Taken</th><th>Topic, command and answer</th>{/snippet}
    {#each held.value.items as one (one.at + one.topic)}
      <tr>
        <td class="whitespace-nowrap tabular-nums">{moment(one.at)}</td>
        <td class="whitespace-nowrap {one.taken ? 'text-success' : 'text-error'}">{one.taken ? "✓ yes" : "✕ no"}</td>
        <td class="min-w-64 font-mono text-[0.85em]">
          <b class="font-semibold break-all">{one.topic}</b><br />
          <span class="break-all">{one.command}</span><br />
          <span class="break-all text-base-content/75">{one.answer}</span>
        </td>
      </tr>
    {/each}
  </DataTable>
{:else if !held.problem}
  <Loading />
{/if}
