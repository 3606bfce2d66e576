<!-- What a draft makes of uplinks, beside the current decoder. -->
<script lang="ts">
  import type { Outcome, Tried, TriedUplink } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import { ago, moment, value } from "#lib/format.ts";
  import ByteRuler from "#lib/components/common/ByteRuler.svelte";
  import DataTable from "#lib/components/common/DataTable.svelte";

  let { tried, drafted, keep }: { tried: Tried; drafted: boolean; keep: (uplink: TriedUplink) => void } = $props();

  type Change = TriedUplink["change"];
  const ORDER: Change[] = ["broken", "fails", "fixed", "changed", "same"];
  const MARKS: Record<Change, { sign: string; word: string; tone: string }> = {
    broken: { sign: "✕", word: "fails now", tone: "text-error" },
    fails: { sign: "✕", word: "fails", tone: "text-error" },
    fixed: { sign: "✓", word: "fixed", tone: "text-success" },
    changed: { sign: "≠", word: "changed", tone: "text-warning" },
    same: { sign: "=", word: "the same", tone: "text-base-content/75" },
  };
  let only = $state<Change | null>(null);
  let picked = $state(0);
  let pointed = $state<string | null>(null);
  let pointedByte = $state<number | null>(null);

  const counts = $derived(ORDER.map((change) => ({ change, n: tried.uplinks.filter((uplink) => uplink.change === change).length })).filter(({ n }) => n > 0));
  const shown = $derived(tried.uplinks.filter((uplink) => !only || uplink.change === only));
  const uplink = $derived(shown[Math.min(picked, shown.length - 1)]);
  const names = $derived([...new Set([...Object.keys(uplink?.before?.readings ?? {}), ...Object.keys(uplink?.after.readings ?? {})])].sort());

  /** The places of the bytes that a reading came from, told by the decoder or found by trying. */
  function bytes(outcome: Outcome | undefined, name: string): number[] {
    const span = outcome?.readings[name]?.bytes;
    if (span) return Array.from({ length: (span[1] ?? 0) - (span[0] ?? 0) }, (_, n) => (span[0] ?? 0) + n);
    return outcome?.tried_bytes?.[name] ?? [];
  }
  const lit = $derived(pointed ? bytes(uplink?.after, pointed) : []);
  function told(outcome: Outcome | null | undefined, name: string): string {
    const reading = outcome?.readings[name];
    return reading ? `${value(reading)}${reading.unit && !reading.word ? ` ${reading.unit}` : ""}` : "–";
  }
</script>

{#if tried.uplinks.length === 0}
  <p class="text-base-content/75">No stored uplinks yet. Paste a payload, or rehearse one.</p>
{:else}
  <div class="mb-2 flex flex-wrap items-center gap-x-4 gap-y-1" role="status" data-tried>
    <span>{tried.uplinks.length} {tried.uplinks.length === 1 ? "payload" : "payloads"}:</span>
    {#each counts as { change, n } (change)}
      <button
        class="font-medium {MARKS[change].tone} {only === change ? 'underline underline-offset-4' : 'link-hover'}"
        type="button"
        aria-pressed={only === change}
        data-count={change}
        onclick={() => {
          only = only === change ? null : change;
          picked = 0;
        }}
      >
        {MARKS[change].sign}
        {n}
        {MARKS[change].word}
      </button>
    {/each}
    {#if tried.left_out > 0}<span class="text-warning">{tried.left_out} left out: the decoders took too long</span>{/if}
  </div>

  <div class="grid gap-4 lg:grid-cols-[17rem_1fr]">
    <ul class="max-h-80 overflow-y-auto rounded-field border border-base-300" aria-label="Payloads">
      {#each shown as one, i (one.message ?? i)}
        {@const mark = MARKS[one.change]}
        <li>
          <button
            class="flex w-full items-baseline gap-2 px-2 py-1 text-left text-sm {uplink === one ? 'bg-base-200' : ''}"
            type="button"
            aria-current={uplink === one}
            data-change={one.change}
            onclick={() => (picked = i)}
          >
            <span class="w-3 {mark.tone}" title={mark.word}>{mark.sign}</span>
            <span class="min-w-0 flex-1 truncate">{one.device?.name ?? "pasted"}</span>
            <span class="text-base-content/75">port {one.port}</span>
            <time class="w-20 text-right text-base-content/75" title={moment(one.time)}>{one.message ? ago(one.time, live.now) : ""}</time>
          </button>
        </li>
      {/each}
    </ul>
    {#if uplink}
      <div class="min-w-0">
        <p class="mb-1 flex flex-wrap items-baseline gap-x-3">
          <span class="font-medium {MARKS[uplink.change].tone}">{MARKS[uplink.change].sign} {MARKS[uplink.change].word}</span>
          {#if uplink.device}<a class="link-hover font-semibold" href="/devices/{uplink.device.eui}">{uplink.device.name}</a>{/if}
          <span class="text-sm text-base-content/75">port {uplink.port}, {uplink.payload.length / 2} bytes</span>
          <button class="link ml-auto text-sm" type="button" onclick={() => keep(uplink)}>save as test</button>
        </p>
        <ByteRuler hex={uplink.payload} {lit} point={(at) => (pointedByte = at)} />
        {#if uplink.before?.problem}<p class="mt-2 text-error"><b>Current:</b> {uplink.before.problem.message}</p>{/if}
        {#if drafted && uplink.after.problem}<p class="mt-2 text-error"><b>Draft:</b> {uplink.after.problem.message}</p>{/if}
        {#each uplink.after.warnings ?? [] as warning, i (i)}<p class="mt-1 text-warning">{warning}</p>{/each}
        {#if names.length > 0}
          <DataTable class="table-sm mt-2">
            {#snippet head()}<th>Reading</th><th>Current</th>{#if drafted}<th>Draft</th>{/if}<th>Bytes</th>{/snippet}
            {#each names as name (name)}
              {@const [was, is, from] = [told(uplink.before, name), told(uplink.after, name), bytes(uplink.after, name)]}
              <tr
                data-reading={name}
                class={pointed === name || (pointedByte !== null && from.includes(pointedByte)) ? "bg-base-200" : ""}
                onpointerenter={() => (pointed = name)}
                onpointerleave={() => (pointed = null)}
              >
                <td>{name}</td>
                <td class="tabular-nums {drafted && was !== is ? 'text-base-content/75' : ''}">{was}</td>
                {#if drafted}<td class="tabular-nums {was === is ? '' : is === '–' ? 'font-semibold text-error' : 'font-semibold text-primary'}">{is}</td>{/if}
                <td class="font-mono text-[0.85em]">{from.join(" ")}</td>
              </tr>
            {/each}
          </DataTable>
        {/if}
      </div>
    {/if}
  </div>

  {#if drafted && tried.readings.some((r) => r.appears + r.vanishes + r.changes > 0)}
    <DataTable class="table-sm mt-3 max-w-xl" data-readings-change>
      {#snippet head()}<th>Over all payloads</th><th>appears</th><th>vanishes</th><th>changes</th><th>stays</th>{/snippet}
      {#each tried.readings as r (r.name)}
        <tr
          ><td>{r.name}</td><td class={r.appears ? "text-success" : ""}>{r.appears || "–"}</td><td class={r.vanishes ? "text-error" : ""}
            >{r.vanishes || "–"}</td
          ><td class={r.changes ? "text-warning" : ""}>{r.changes || "–"}</td><td>{r.same || "–"}</td></tr
        >
      {/each}
    </DataTable>
  {/if}
{/if}
