<!-- Many of a kind from a CSV file; what becomes of each row is shown before anything is written. -->
<script lang="ts">
  import type { Snippet } from "svelte";
  import { say, type ImportOutcome } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import State from "#lib/components/common/State.svelte";
  import { Action } from "#lib/resource.svelte.ts";

  type Outcome = ImportOutcome & { notes?: string[] };
  type Props = {
    title: string;
    /** How the column of the EUI is called. */
    eui: string;
    /** Previews or registers what the CSV file holds. */
    send: (csv: Blob, how: { preview: boolean; skipBad: boolean }) => Promise<Outcome>;
    /** Some were registered. */
    done: () => void;
    /** Which columns there are. */
    columns: Snippet;
    /** What else is asked for; `changed` is called when an answer changes. */
    options?: Snippet<[changed: () => void]>;
    /** What is told while it works. */
    progress?: Snippet;
  };
  let { title, eui, send, done, columns, options, progress }: Props = $props();

  /** Rows shown; of a long file those that cannot be registered come first. */
  const SHOWN = 200;
  const NOTES = 20;

  let file = $state<File | null>(null);
  let pasted = $state("");
  let skipBad = $state(false);
  let outcome = $state.raw<Outcome | null>(null);
  const act = new Action();
  const given = $derived(file !== null || pasted.trim() !== "");
  const good = $derived(outcome ? outcome.rows.length - outcome.bad : 0);
  const rows = $derived((outcome?.rows ?? []).toSorted((a, b) => Number(b.fate === "bad") - Number(a.fate === "bad")).slice(0, SHOWN));

  async function run(preview: boolean) {
    // The file's bytes as they are: the service finds out its encoding.
    outcome = (await act.run(() => send(file ?? new Blob([pasted]), { preview, skipBad }))) ?? null;
    if (outcome && outcome.registered > 0) done();
  }

  async function choose(event: Event & { currentTarget: HTMLInputElement }) {
    file = event.currentTarget.files?.[0] ?? null;
    if (file) await run(true);
  }

  function changed() {
    if (given) void run(true);
  }
</script>

<Card {title} data-import>
  <p class="max-w-4xl text-sm text-base-content/80">{@render columns()}</p>
  <div class="mt-3 flex flex-wrap items-center gap-3">
    <input class="file-input" type="file" accept=".csv,.txt,text/csv" onchange={choose} aria-label="A CSV file" />
    {@render options?.(changed)}
  </div>
  <textarea
    class="textarea mt-2 w-full font-mono text-sm"
    name="csv"
    rows="4"
    bind:value={pasted}
    oninput={() => ([outcome, file] = [null, null])}
    aria-label="CSV text"
    placeholder="or paste it here"
    spellcheck="false"></textarea>
  <div class="mt-2 flex flex-wrap items-center gap-3">
    <button class="btn" type="button" disabled={!given || act.busy} onclick={() => run(true)}>Preview</button>
    {#if outcome && outcome.registered === 0}
      <button class="btn btn-primary" type="button" disabled={act.busy || good === 0 || (outcome.bad > 0 && !skipBad)} onclick={() => run(false)}
        >Register {good}</button
      >
      {#if outcome.bad > 0}
        <label class="flex items-center gap-2">
          <input class="checkbox checkbox-sm" type="checkbox" name="skip_bad" bind:checked={skipBad} />leave out the {outcome.bad} that cannot be registered
        </label>
      {/if}
    {/if}
    {#if act.busy}<span class="loading loading-sm loading-spinner" role="status" aria-label="The service is at it"></span>{@render progress?.()}{/if}
    {#if outcome && outcome.registered > 0}<span class="text-success" role="status">{outcome.registered} were registered.</span>{/if}
  </div>
  {#if act.problem}<div class="mt-2"><Notice text={act.problem} /></div>{/if}
  {#if outcome}
    {#each (outcome.notes ?? []).slice(0, NOTES) as note (note)}<p class="mt-2 border-l-4 border-warning pl-2">{note}</p>{/each}
    <div class="mt-3">
      <DataTable>
        {#snippet head()}<th class="text-right">Line</th><th>{eui}</th><th>Name</th><th>Result</th>{/snippet}
        {#each rows as row (row.line)}
          <tr data-row={row.line}>
            <td class="text-right tabular-nums">{row.line}</td>
            <td class="font-mono text-[0.85em]">{row.eui}</td>
            <td class="whitespace-nowrap">{row.name}</td>
            <td>
              <State state={row.fate} />{#if row.problem}<span class="block text-sm">{say(row.problem)}</span>{/if}
            </td>
          </tr>
        {/each}
      </DataTable>
    </div>
    {#if outcome.rows.length > SHOWN}<p class="mt-2 text-sm text-base-content/75">{outcome.rows.length - SHOWN} more rows like the last.</p>{/if}
  {/if}
</Card>
