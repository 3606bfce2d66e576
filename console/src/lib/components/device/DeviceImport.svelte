<!-- Many devices from a CSV file; what becomes of each row is shown before anything is written. -->
<script lang="ts">
  import { EventSourceParserStream } from "eventsource-parser/stream";
  import { say, type DeviceImportOutcome, type ImportProgress } from "#lib/api.ts";
  import { estateOptions } from "#lib/estateOptions.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import State from "#lib/components/common/State.svelte";
  import Card from "#lib/components/common/Card.svelte";

  /** Rows shown; of a long file those that cannot be registered come first. */
  const SHOWN = 200;

  let { done: whenDone }: { done: () => void } = $props();

  let file = $state<Blob | null>(null);
  let pasted = $state("");
  let fleet = $state("");
  let skipBad = $state(false);
  let outcome = $state<DeviceImportOutcome | null>(null);
  let problem = $state("");
  let busy = $state("");
  let progress = $state<ImportProgress | null>(null);
  const good = $derived(outcome ? outcome.rows.length - outcome.bad : 0);
  const previewed = $derived(outcome !== null && outcome.registered === 0);
  const rows = $derived(outcome ? outcome.rows.toSorted((a, b) => Number(b.fate === "bad") - Number(a.fate === "bad")).slice(0, SHOWN) : []);

  // The file's bytes as they are: the service finds out its encoding.
  async function send(preview: boolean) {
    const query = new URLSearchParams({ preview: String(preview), skip_bad: String(skipBad), ...(fleet ? { fleet } : {}) });
    busy = preview ? "looking at it…" : `registering ${good}…`;
    const answer = await fetch(`/api/v1/estates/${session.estate}/devices/import?${query}`, {
      method: "POST",
      headers: { "content-type": "text/csv", accept: "text/event-stream" },
      body: file ?? pasted,
    }).catch(() => null);
    const [done, said] = answer?.ok && answer.body ? await told(answer.body) : [false, await answer?.json().catch(() => undefined)];
    [busy, progress] = ["", null];
    problem = done ? "" : say(said);
    outcome = done ? (said as DeviceImportOutcome) : null;
    if (outcome && outcome.registered > 0) whenDone();
  }

  /** Follows the events of an import to its end: its outcome, or what went wrong. */
  async function told(body: ReadableStream<Uint8Array<ArrayBuffer>>): Promise<[boolean, unknown]> {
    const events = body.pipeThrough(new TextDecoderStream()).pipeThrough(new EventSourceParserStream());
    const reader = events.getReader();
    try {
      for (;;) {
        const { done, value } = await reader.read();
        if (done) return [false, undefined];
        if (value.event === "progress") progress = JSON.parse(value.data);
        else return [value.event === "outcome", JSON.parse(value.data)];
      }
    } catch {
      return [false, undefined];
    }
  }

  async function choose(event: Event & { currentTarget: HTMLInputElement }) {
    file = event.currentTarget.files?.[0] ?? null;
    if (file) await send(true);
  }
</script>

<Card title="Import devices from a CSV file" data-import>
  <p class="mt-2 max-w-4xl text-sm text-base-content/80">
    First line: column names. Then one device per line. <span class="font-mono text-[0.9em]">dev_eui, join_eui, app_key, name, fleet</span> are common;
    <span class="font-mono text-[0.9em]"
      >model, profile, region, class, mac_version, nwk_key, dev_addr, nwk_s_key, app_s_key, hardware, firmware, tags, description</span
    >
    may be there; <span class="font-mono text-[0.9em]">label</span>, the code on a label, stands for both EUIs. A key may be the word
    <span class="font-mono text-[0.9em]">generate</span>, or <span class="font-mono text-[0.9em]">fleet</span> for the fleet's own.
  </p>
  <div class="mt-3 flex flex-wrap items-center gap-3">
    <input class="file-input" type="file" accept=".csv,.txt,text/csv" onchange={choose} aria-label="A CSV file" />
    <label class="flex items-center gap-2">
      <span class="text-sm text-base-content/75">Fleet for rows without one</span>
      <select class="select select-sm w-44" name="import_fleet" bind:value={fleet} onchange={() => (file || pasted.trim()) && send(true)}>
        <option value="">–</option>
        {#each estateOptions.fleets as { slug } (slug)}<option value={slug}>{slug}</option>{/each}
      </select>
    </label>
  </div>
  <textarea
    class="textarea mt-2 w-full font-mono text-sm"
    name="csv"
    rows="3"
    bind:value={pasted}
    oninput={() => ([outcome, file] = [null, null])}
    aria-label="CSV text"
    placeholder="or paste it here"
    spellcheck="false"></textarea>
  <div class="mt-2 flex flex-wrap items-center gap-3">
    <button class="btn" type="button" disabled={!file && !pasted.trim()} onclick={() => send(true)}>Preview</button>
    {#if outcome && previewed}
      <button class="btn btn-primary" type="button" disabled={good === 0 || (outcome.bad > 0 && !skipBad)} onclick={() => send(false)}>Register {good}</button>
      {#if outcome.bad > 0}
        <label class="flex items-center gap-2"
          ><input class="checkbox checkbox-sm" type="checkbox" name="skip_bad" bind:checked={skipBad} />leave out the {outcome.bad} that cannot be</label
        >
      {/if}
    {/if}
    {#if busy}<span class="text-base-content/75" role="status">{busy}</span>{/if}
    {#if progress}
      <progress class="progress w-56" value={progress.done} max={progress.of} aria-label="Written down"></progress>
      <span class="text-sm tabular-nums text-base-content/75">{progress.done} of {progress.of}</span>
    {/if}
    {#if outcome && outcome.registered > 0}<span class="text-success" role="status">{outcome.registered} were registered.</span>{/if}
  </div>
  {#if problem}<div class="mt-2"><Notice text={problem} /></div>{/if}
  {#if outcome}
    {#each outcome.notes.slice(0, 20) as note (note)}<p class="mt-2 border-l-4 border-warning pl-2">{note}</p>{/each}
    <div class="mt-3 overflow-x-auto">
      <table class="table table-sm">
        <thead><tr><th class="text-right">Line</th><th>DevEUI</th><th>Name</th><th>Result</th></tr></thead>
        <tbody>
          {#each rows as row (row.line)}
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
    {#if outcome.rows.length > SHOWN}<p class="mt-2 text-sm text-base-content/75">{outcome.rows.length - SHOWN} more rows like the last.</p>{/if}
  {/if}
</Card>
