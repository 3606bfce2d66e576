<script lang="ts">
  import { goto } from "$app/navigation";
  import { page } from "$app/state";
  import { api, call, every } from "#lib/api.ts";
  import LineChart from "#lib/components/common/LineChart.svelte";
  import { moment } from "#lib/format.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { resource } from "#lib/resource.svelte.ts";

  const HOUR = 3_600_000;
  const SPANS = { "6h": 6, "1d": 24, "7d": 168, "30d": 720, "1y": 8760 } as const;
  const WORDS = { "6h": "6 hours", "1d": "a day", "7d": "a week", "30d": "30 days", "1y": "a year" } as const;
  type Span = keyof typeof SPANS;

  /** Lines as `eui~reading`. */
  const lines = $derived(page.url.searchParams.getAll("line").map((text) => ({ device: text.slice(0, 16), reading: text.slice(17) })));
  const asked = $derived(page.url.searchParams.get("last") ?? "");
  const last: Span = $derived(asked in SPANS ? (asked as Span) : "1d");
  const from = $derived(Number(page.url.searchParams.get("from")) || null);
  const until = $derived(Number(page.url.searchParams.get("until")) || null);
  const path = $derived({ estate: session.estate });
  // What can be added.
  let device = $state("");
  const devices = resource(async () => (await call(api.GET("/api/v1/estates/{estate}/devices", { params: { path, query: { limit: 500 } } }))).items);
  const readings = resource(async () =>
    device
      ? await every((query) => call(api.GET("/api/v1/estates/{estate}/devices/{eui}/readings", { params: { path: { ...path, eui: device }, query } })))
      : [],
  );

  function show(change: { line?: string[]; last?: Span; from?: number; until?: number }) {
    const query = new URLSearchParams();
    for (const line of change.line ?? lines.map(({ device, reading }) => `${device}~${reading}`)) query.append("line", line);
    if (change.from && change.until) {
      query.set("from", String(Math.round(change.from)));
      query.set("until", String(Math.round(change.until)));
    } else if (!change.last && from && until) {
      query.set("from", String(from));
      query.set("until", String(until));
    } else query.set("last", change.last ?? last);
    void goto(`?${query}`, { reset: false, replace: true });
  }

  const held = resource(
    async () => {
      if (lines.length === 0) return null;
      const now = Date.now();
      const begun = performance.now();
      const body = {
        lines,
        from: new Date(from ?? now - SPANS[last] * HOUR).toISOString(),
        until: new Date(Math.min(until ?? now, now)).toISOString(),
        points: 500,
      };
      const chart = await call(api.POST("/api/v1/estates/{estate}/chart", { params: { path }, body }));
      return { chart, took: performance.now() - begun };
    },
    {
      // Not with every uplink: a chart of a year does not change by one.
      on: (message) => message.type === "uplink" && !from && !message.rehearsed && lines.some((line) => line.device === message.device?.eui),
      atMostEveryMs: 2000,
    },
  );
  const chart = $derived(held.value?.chart ?? null);
  const took = $derived(held.value?.took ?? 0);
  const problem = $derived(held.problem);

  const exported = $derived.by(() => {
    const query = new URLSearchParams();
    const one = new Set(lines.map((line) => line.device));
    if (one.size === 1) query.set("device", lines[0]?.device ?? "");
    query.set("reading", [...new Set(lines.map((line) => line.reading))].join(","));
    query.set("from", new Date(from ?? Date.now() - SPANS[last] * HOUR).toISOString());
    return `/api/v1/estates/${session.estate}/readings/export?${query}`;
  });
</script>

<svelte:head><title>Chart · Keen Heron</title></svelte:head>

<p class="mb-1 text-sm"><a class="link link-hover" href="/devices">Devices</a> ›</p>
<div class="mb-3 flex flex-wrap items-center gap-x-5 gap-y-2">
  <h1>Readings over time</h1>
  <div class="join" role="group" aria-label="Period">
    {#each Object.entries(WORDS) as [span, words] (span)}
      <button
        class="btn join-item btn-sm"
        class:btn-active={!from && last === span}
        aria-pressed={!from && last === span}
        onclick={() => show({ last: span as Span })}>{words}</button
      >
    {/each}
  </div>
  {#if from && until}<span class="text-sm text-base-content/75">{moment(from)} to {moment(until)}</span>{/if}
</div>
<Notice text={problem} />

<div class="mb-3 flex flex-wrap items-center gap-2">
  {#each lines as line (line.device + line.reading)}
    <span class="badge gap-2 badge-ghost">
      <a class="link-hover" href="/devices/{line.device}">{devices.value?.find((one) => one.dev_eui === line.device)?.name ?? line.device}</a>
      {line.reading}
      <button
        class="font-semibold"
        aria-label="Take {line.reading} out"
        onclick={() => show({ line: lines.filter((other) => other !== line).map(({ device, reading }) => `${device}~${reading}`) })}>×</button
      >
    </span>
  {/each}
  <select class="select select-sm w-44" bind:value={device} aria-label="Another device">
    <option value="">add a device…</option>
    {#each devices.value ?? [] as one (one.dev_eui)}<option value={one.dev_eui}>{one.name}</option>{/each}
  </select>
  {#if device}
    {#each (readings.value ?? []).filter((reading) => !lines.some((line) => line.device === device && line.reading === reading.name)) as reading (reading.name)}
      <button class="btn btn-xs" onclick={() => show({ line: [...lines.map((line) => `${line.device}~${line.reading}`), `${device}~${reading.name}`] })}
        >+ {reading.name}</button
      >
    {:else}
      <span class="text-sm text-base-content/75">no more readings</span>
    {/each}
  {/if}
</div>

{#if chart && lines.length > 0}
  <LineChart {chart} look={(from, until) => show({ from, until })} />
  <p class="mt-1 flex flex-wrap gap-x-5 text-sm text-base-content/75">
    <span
      >{chart.lines.some((line) => line.step_s) ? "Mean, minimum and maximum. Zoom in for single values." : "Every value is a point."} Turn the wheel to zoom, drag
      to move.</span
    >
    <span data-took>read in {Math.round(took)} ms</span>
    <span
      >Export: <a class="link" href="{exported}&form=csv" download>CSV</a> · <a class="link" href="{exported}&form=jsonl" download>JSON Lines</a> ·
      <a class="link" href="{exported}&form=parquet" download>Parquet</a></span
    >
  </p>
  {#each chart.lines.filter((line) => line.cut) as line (line.device.eui + line.reading)}
    <p class="text-sm text-warning">{line.device.name} {line.reading} has more values than can be drawn; choose a shorter time.</p>
  {/each}
{:else if lines.length === 0}
  <p class="max-w-prose">Choose a device above, and add one or more of its readings; readings of several devices can stand together.</p>
{/if}
