<!-- A device's readings as they are now, each with its last day. -->
<script lang="ts">
  import { api, call, every, type DeviceReading } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { ago, duration, value } from "#lib/format.ts";
  import Sparkline from "#lib/components/common/Sparkline.svelte";
  import Card from "#lib/components/common/Card.svelte";
  import { resource } from "#lib/resource.svelte.ts";

  const DAY_MS = 86_400_000;
  const MINUTE_MS = 60_000;
  /** Lines that one chart may have. */
  const MOST_LINES = 24;

  let { eui, model, news }: { eui: string; model: string | null | undefined; news: number } = $props();
  const chart = (names: string[]) => `/devices/chart?${names.map((name) => `line=${eui}~${encodeURIComponent(name)}`).join("&")}`;
  const short = (n: number) => String(Math.round(n * 1000) / 1000);

  const path = $derived({ estate: session.estate, eui });
  const charted = (all: DeviceReading[]) => all.filter((one) => typeof one.value === "number" && one.kind !== "position").map((one) => one.name);
  const held = resource(async () => {
    void news;
    const readings = await every((query) => call(api.GET("/api/v1/estates/{estate}/devices/{eui}/readings", { params: { path, query } })));
    const lines = charted(readings)
      .slice(0, MOST_LINES)
      .map((reading) => ({ device: eui, reading }));
    const until = Date.now();
    const span = { from: new Date(until - DAY_MS).toISOString(), until: new Date(until).toISOString() };
    const chart = lines.length > 0 ? await call(api.POST("/api/v1/estates/{estate}/chart", { params: { path }, body: { lines, ...span, points: 96 } })) : null;
    return { readings, lines: chart?.lines ?? [], until };
  });
  const readings = $derived(held.value?.readings ?? null);
  const lines = $derived(held.value?.lines ?? []);
  const until = $derived(held.value?.until ?? 0);
  const numbers = $derived(charted(readings ?? []));
  /** The day, or as much of it as there is. */
  const from = $derived(Math.max(until - DAY_MS, Math.min(until - MINUTE_MS, ...lines.flatMap((line) => line.points[0]?.at_ms ?? []))));

  const day = (name: string) => lines.find((line) => line.reading === name)?.points.map(({ at_ms, value }) => ({ at_ms, value: value ?? null })) ?? [];
</script>

<Card>
  <div class="mb-2 flex flex-wrap items-baseline gap-4">
    <h2>Readings</h2>
    {#if numbers.length > 0}<a class="link text-sm" href={chart(numbers.slice(0, 6))}>over time</a>{/if}
    {#if model}<a class="link text-sm" href="/decoders/{model}">workbench</a>{/if}
  </div>
  {#if readings?.length === 0}
    <p class="text-base-content/75">
      {model ? "No readings yet. They appear with the first decoded uplink." : "It has no model, so its payloads are not decoded."}
    </p>
  {:else if readings}
    <dl class="grid grid-cols-2 gap-x-4 gap-y-3 sm:grid-cols-3">
      {#each readings as reading (reading.name)}
        {#key reading.time}
          <div class="rounded-field px-2 py-1 {news ? 'arrived' : ''}" data-reading={reading.name}>
            <dt class="text-sm text-base-content/75"><a class="link-hover" href={chart([reading.name])}>{reading.name.replaceAll("_", " ")}</a></dt>
            <dd class="text-xl font-semibold tabular-nums">
              {value(reading)} <span class="text-base font-normal text-base-content/75">{reading.word ? "" : (reading.unit ?? "")}</span>
            </dd>
            <dd class="text-sm {reading.freshness === 'overdue' ? 'text-warning' : 'text-base-content/75'}">
              {ago(reading.time, live.now)}{#if reading.interval_s && reading.freshness === "now_and_then"}, comes about every {duration(
                  Math.round(reading.interval_s),
                )}{:else if reading.interval_s && reading.freshness === "overdue"}, overdue: usually every {duration(Math.round(reading.interval_s))}{/if}
            </dd>
            {#if typeof reading.value === "number"}<dd>
                <Sparkline points={day(reading.name)} {from} {until} label="{reading.name}, the last 24 hours" step={reading.kind === "state"} />
              </dd>{/if}
            {#if reading.kind === "total"}<dd class="text-sm text-base-content/75">
                running total{reading.raw != null ? `, its device says ${short(reading.raw)}` : ""}
              </dd>
            {:else if reading.day && reading.day.count > 1 && reading.kind === "measured"}<dd class="text-sm text-base-content/75">
                24 h: {short(reading.day.least)} to {short(reading.day.most)}
              </dd>{/if}
          </div>
        {/key}
      {/each}
    </dl>
    {#each readings.filter((reading) => reading.doubt) as { name, doubt } (name)}
      <p class="mt-2 border-l-4 border-warning/60 pl-3" data-doubt>
        <span class="font-medium text-warning">!</span> <b>{name}</b>: {doubt?.seen}. <b>{doubt?.question}</b>
        {#if model}<a class="link" href="/decoders/{model}">Set unit or scale</a>{/if}
      </p>
    {/each}
  {/if}
</Card>
