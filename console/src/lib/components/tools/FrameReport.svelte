<!-- A frame byte by byte: its fields, and whether its MIC agrees. -->
<script lang="ts">
  import type { FrameField, FrameReport } from "#lib/api.ts";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import State from "#lib/components/common/State.svelte";

  let { report }: { report: FrameReport } = $props();
  /** The field pointed at. */
  let lit = $state.raw<FrameField | null>(null);

  const pairs = (hex: string) => hex.match(/../g) ?? [];
  const bytes = $derived(pairs(report.bytes));
  /** Top-level fields take turns in shade, so that one sees where each begins. */
  const shade = $derived.by(() => {
    const of: number[] = bytes.map(() => -1);
    report.fields.filter((f) => f.depth === 0).forEach((f, i) => of.fill(i % 2, f.at, f.at + f.len));
    return of;
  });
  const isLit = (i: number) => lit !== null && i >= lit.at && i < lit.at + lit.len;
  const sent = (f: FrameField) => bytes.slice(f.at, f.at + f.len).join(" ");
  const shown = (f: FrameField) => (f.depth > 0 && f.clear ? pairs(f.clear).join(" ") : sent(f));
  /** Whether the value is bytes, and not words. */
  const raw = (f: FrameField) => sent(f).replaceAll(" ", "") === f.value;
  /** Encrypted bytes say nothing; those behind them do. */
  const meant = (f: FrameField) => (raw(f) ? pairs(f.clear ?? f.value).join(" ") : f.value);
</script>

<section aria-label="The frame">
  <p class="text-lg font-semibold">{report.summary}</p>
  {#if report.device}
    <p>Compared with <a class="link" href="/devices/{report.device.dev_eui}">{report.device.name}</a>.</p>
  {/if}

  <div class="my-3 flex flex-wrap gap-y-1 font-mono text-[0.95rem] leading-none" aria-hidden="true">
    {#each bytes as byte, i (i)}
      <span
        class="px-[0.3rem] py-1.5 {shade[i] === 0 ? 'bg-base-300' : shade[i] === 1 ? 'bg-base-200' : ''} {isLit(i)
          ? '!bg-secondary !text-secondary-content'
          : ''} {report.stopped && i >= report.stopped.at ? 'text-error underline decoration-wavy underline-offset-4' : ''}">{byte}</span
      >
    {/each}
  </div>

  {#if report.stopped}
    <p class="mb-3 border-l-4 border-error/60 pl-3"><b>From byte {report.stopped.at} on it makes no sense:</b> {report.stopped.why}.</p>
  {/if}

  {#if report.verdicts.length}
    <ul class="mb-3 space-y-1">
      {#each report.verdicts as verdict (verdict.version + verdict.key)}
        <li class="rounded-field border border-base-300 px-3 py-2">
          <span class="font-semibold">MIC, {verdict.version}</span> with {verdict.key}: <State state={verdict.agrees ? "agrees" : "differs"} />
          <span class="block text-base-content/80">{verdict.note}</span>
          {#if verdict.counters.length > 1}
            <span class="block text-sm text-base-content/75">
              Counters tried: {verdict.counters.map((c) => `${c.counter} (${c.origin}${c.agrees ? ", agrees" : ""})`).join(", ")}
            </span>
          {/if}
        </li>
      {/each}
    </ul>
  {:else}
    <p class="mb-3 text-base-content/80">No key is known, neither of a registered device nor given, so the MIC is not checked and nothing is decrypted.</p>
  {/if}

  <DataTable aria-label="Fields"
    >{#snippet head()}<th class="w-8">At</th><th>Field</th><th class="hidden sm:table-cell">Bytes</th><th>Value</th><th class="hidden sm:table-cell">Meaning</th
      >{/snippet}
    {#each report.fields as field (`${field.at} ${field.depth} ${field.name}`)}
      <tr
        class={lit === field ? "bg-secondary/10" : ""}
        tabindex="0"
        onmouseenter={() => (lit = field)}
        onmouseleave={() => (lit = null)}
        onfocus={() => (lit = field)}
        onblur={() => (lit = null)}
      >
        <td class="text-base-content/75 tabular-nums">{field.at}</td>
        <td class="whitespace-nowrap {field.depth ? 'pl-8' : 'font-semibold'}">{field.name}</td>
        <td class="hidden sm:table-cell {field.len <= 8 ? 'whitespace-nowrap' : ''}"><span class="font-mono text-[0.9em]">{shown(field)}</span></td>
        <td>
          <span class={raw(field) ? "font-mono text-[0.9em]" : ""}>{meant(field)}</span>
          {#if field.note}<span class="block text-base-content/80 sm:hidden">{field.note}</span>{/if}
        </td>
        <td class="hidden text-base-content/80 sm:table-cell">{field.note ?? ""}</td>
      </tr>
    {/each}
  </DataTable>
  {#if report.payload != null}
    <p class="mt-2">Payload in the clear: <code class="font-mono">{pairs(report.payload).join(" ") || "empty"}</code></p>
  {/if}
</section>
