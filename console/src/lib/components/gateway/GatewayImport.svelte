<!-- Many gateways from a CSV file; what becomes of each row is shown before anything is written. -->
<script lang="ts">
  import { api, call, say, type ImportOutcome } from "#lib/api.ts";
  import { session } from "#lib/session.svelte.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import State from "#lib/components/common/State.svelte";
  import Card from "#lib/components/common/Card.svelte";
  import { Action } from "#lib/resource.svelte.ts";

  let { done }: { done: () => void } = $props();

  let csv = $state("");
  let skipBad = $state(false);
  let outcome = $state<ImportOutcome | null>(null);
  const act = new Action();
  const problem = $derived(act.problem);
  const good = $derived(outcome ? outcome.rows.length - outcome.bad : 0);
  const previewed = $derived(outcome !== null && outcome.registered === 0);

  async function send(preview: boolean) {
    const body = { csv, skip_bad: skipBad, preview };
    const data = await act.run(() => call(api.POST("/api/v1/estates/{estate}/gateways/import", { params: { path: { estate: session.estate } }, body })));
    outcome = data ?? null;
    if (data && data.registered > 0) done();
  }

  async function choose(event: Event & { currentTarget: HTMLInputElement }) {
    const file = event.currentTarget.files?.[0];
    if (!file) return;
    csv = await file.text();
    await send(true);
  }
</script>

<Card title="Import gateways from a CSV file" data-import>
  <p class="mt-2 max-w-prose text-sm text-base-content/80">
    First line: column names. Then one gateway per line. <span class="font-mono text-[0.9em]">eui</span> and <span class="font-mono text-[0.9em]">name</span>
    are needed;
    <span class="font-mono text-[0.9em]"
      >description, region, channels, protocol, udp_source, latitude_deg, longitude_deg, altitude_m, antenna_gain_dbi, cable_loss_db, open_to_others, beacons</span
    >
    may be there. Order and case do not matter; commas, semicolons or tabs stand between.
  </p>
  <div class="mt-3 flex flex-wrap items-center gap-3">
    <input class="file-input" type="file" accept=".csv,.txt,text/csv" onchange={choose} aria-label="A CSV file" />
    <span class="text-sm text-base-content/75">or paste it here:</span>
  </div>
  <textarea
    class="textarea mt-2 w-full font-mono text-sm"
    name="csv"
    rows="4"
    bind:value={csv}
    oninput={() => (outcome = null)}
    aria-label="CSV text"
    spellcheck="false"></textarea>
  <div class="mt-2 flex flex-wrap items-center gap-3">
    <button class="btn" type="button" disabled={!csv.trim()} onclick={() => send(true)}>Preview</button>
    {#if outcome && previewed}
      <button class="btn btn-primary" type="button" disabled={good === 0 || (outcome.bad > 0 && !skipBad)} onclick={() => send(false)}>Register {good}</button>
      {#if outcome.bad > 0}
        <label class="flex items-center gap-2"
          ><input class="checkbox checkbox-sm" type="checkbox" name="skip_bad" bind:checked={skipBad} />leave out the {outcome.bad} that cannot be</label
        >
      {/if}
    {/if}
    {#if outcome && outcome.registered > 0}<span class="text-success" role="status">{outcome.registered} were registered.</span>{/if}
  </div>
  {#if problem}<div class="mt-2"><Notice text={problem} /></div>{/if}
  {#if outcome}
    <div class="mt-3 overflow-x-auto">
      <table class="table table-sm">
        <thead><tr><th class="text-right">Line</th><th>EUI</th><th>Name</th><th>Result</th></tr></thead>
        <tbody>
          {#each outcome.rows as row (row.line)}
            <tr data-row={row.line}>
              <td class="text-right tabular-nums">{row.line}</td>
              <td class="font-mono text-[0.85em]">{row.eui}</td>
              <td class="whitespace-nowrap">{row.name}</td>
              <td
                ><State state={row.fate} />{#if row.problem}<span class="block text-sm">{say(row.problem)}</span>{/if}</td
              >
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {/if}
</Card>
