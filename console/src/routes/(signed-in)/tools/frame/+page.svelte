<script lang="ts">
  import { goto } from "$app/navigation";
  import { page } from "$app/state";
  import { api, call, type FrameField } from "#lib/api.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import RegionSelect from "#lib/components/common/RegionSelect.svelte";
  import State from "#lib/components/common/State.svelte";
  import { session } from "#lib/session.svelte.ts";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import { resource } from "#lib/resource.svelte.ts";

  // The frame stands in the address; keys never do.
  let frame = $state(page.url.searchParams.get("frame") ?? "");
  let region = $state(page.url.searchParams.get("region") ?? "");
  let counter = $state("");
  const keyNames = [
    { name: "app_key", word: "AppKey" },
    { name: "nwk_key", word: "NwkKey (1.1)" },
    { name: "nwk_s_key", word: "NwkSKey" },
    { name: "app_s_key", word: "AppSKey" },
    { name: "f_nwk_s_int_key", word: "FNwkSIntKey (1.1)" },
    { name: "s_nwk_s_int_key", word: "SNwkSIntKey (1.1)" },
    { name: "nwk_s_enc_key", word: "NwkSEncKey (1.1)" },
    { name: "dev_eui", word: "DevEUI (1.1 accept)" },
    { name: "join_eui", word: "JoinEUI (1.1 accept)" },
  ] as const;
  let keys = $state<Record<string, string>>({});
  /** The field pointed at. */
  let lit = $state<FrameField | null>(null);

  const examples = [
    { word: "a join-request", frame: "00010000000000aa022a0000000000bb023412d5cc98a9", region: "" },
    { word: "an uplink with MAC commands", frame: "406745230385120003070655020264c6ef1f9ad04c", region: "" },
    { word: "a downlink that sets channels", frame: "606745230305070003450200511122aa33", region: "US915" },
    { word: "a rejoin-request", frame: "c0001300002a0000000000bb020706c4fbcf19", region: "" },
    { word: "one that is cut off", frame: "4067452303859c0102", region: "" },
  ];

  const given = (all: Record<string, string>) => Object.fromEntries(Object.entries(all).filter(([, text]) => text.trim()));
  const question = $derived({ ...given(keys), frame, region: region || null, counter: counter.trim() ? Number(counter) : null });
  const countable = $derived(question.counter === null || Number.isInteger(question.counter));
  const held = resource(
    async () => {
      if (!frame.trim() || !countable) return null;
      const report = await call(api.POST("/api/v1/estates/{estate}/frame", { params: { path: { estate: session.estate } }, body: question }));
      lit = null;
      const next = new URLSearchParams({ frame });
      if (region) next.set("region", region);
      void goto(`?${next}`, { replace: true, reset: false });
      return report;
    },
    { typing: { key: () => question, pauseMs: 200 } },
  );
  const report = $derived(frame.trim() && !held.problem ? held.value : null);
  const problem = $derived.by(() => {
    if (!frame.trim()) return "";
    return countable ? held.problem : `Full counter: ${JSON.stringify(counter)} was given; a whole number is needed.`;
  });

  const pairs = (hex: string) => hex.match(/../g) ?? [];
  const bytes = $derived(pairs(report?.bytes ?? ""));
  /** Top-level fields take turns in shade, so that one sees where each begins. */
  const shade = $derived.by(() => {
    const of: number[] = bytes.map(() => -1);
    report?.fields.filter((f) => f.depth === 0).forEach((f, i) => of.fill(i % 2, f.at, f.at + f.len));
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

<svelte:head><title>Frame · Keen Heron</title></svelte:head>

<h1 class="mb-3">What is in this frame?</h1>
<form class="mb-4 grid gap-3" onsubmit={(e) => e.preventDefault()}>
  <label class="grid gap-1">
    <span>PHYPayload, in hex or base64</span>
    <textarea class="textarea w-full font-mono" rows="2" spellcheck="false" autocomplete="off" placeholder="40 67 45 23 03 …" bind:value={frame}></textarea>
  </label>
  <div class="flex flex-wrap items-end gap-x-5 gap-y-2">
    <label class="flex items-center gap-2">
      <span>Region</span>
      <RegionSelect width="select-sm w-36" none="of the device" value={region} choose={(name) => (region = name)} />
    </label>
    <label class="flex items-center gap-2">
      <span>Full counter</span>
      <input class="input input-sm w-32 tabular-nums" inputmode="numeric" placeholder="automatic" bind:value={counter} />
    </label>
    <details class="basis-full sm:basis-auto">
      <summary class="cursor-pointer py-1 text-secondary">Use my own keys</summary>
      <div class="mt-2 grid gap-2 sm:grid-cols-2 lg:grid-cols-3">
        {#each keyNames as key (key.name)}
          <label class="grid gap-0.5 text-sm">
            <span>{key.word}</span>
            <input
              class="input input-sm w-full font-mono"
              type={key.name.endsWith("key") ? "password" : "text"}
              autocomplete="off"
              value={keys[key.name] ?? ""}
              oninput={(e) => (keys = { ...keys, [key.name]: e.currentTarget.value })}
            />
          </label>
        {/each}
      </div>
    </details>
  </div>
</form>
<Notice text={problem} />

{#if report}
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
      >{#snippet head()}<th class="w-8">At</th><th>Field</th><th class="hidden sm:table-cell">Bytes</th><th>Value</th><th class="hidden sm:table-cell"
          >Meaning</th
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
{:else if !problem}
  <section class="rounded-box border border-base-300 p-5">
    <p>Paste a frame as a gateway, a log or a sniffer gave it. If it is from a registered device, its MIC is checked and its payload decrypted.</p>
    <p class="mt-2">Examples:</p>
    <ul class="mt-1 flex flex-wrap gap-2">
      {#each examples as example (example.word)}
        <li><button class="btn btn-sm" onclick={() => ((frame = example.frame), (region = example.region))}>{example.word}</button></li>
      {/each}
    </ul>
  </section>
{/if}
