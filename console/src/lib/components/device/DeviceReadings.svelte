<!-- A device's readings as they are now, each with its last day. -->
<script lang="ts">
  import { api, type Chart, type DeviceReading } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { ago, duration, value } from "#lib/format.ts";
  import Sparkline from "#lib/components/common/Sparkline.svelte";

  const DAY_MS = 86_400_000;
  /** Lines that one chart may have. */
  const MOST_LINES = 24;

  let { eui, model, news }: { eui: string; model: string | null | undefined; news: number } = $props();
  let readings = $state<DeviceReading[] | null>(null);
  let lines = $state<Chart["lines"]>([]);
  let until = $state(0);
  const chart = (names: string[]) => `/devices/chart?${names.map((name) => `line=${eui}~${encodeURIComponent(name)}`).join("&")}`;
  const numbers = $derived(
    (readings ?? []).filter((reading) => typeof reading.value === "number" && reading.kind !== "position").map((reading) => reading.name),
  );
  const short = (n: number) => String(Math.round(n * 1000) / 1000);

  $effect(() => {
    void news;
    void load();
  });

  async function load() {
    const path = { estate: session.estate, eui };
    const { data } = await api.GET("/api/v1/estates/{estate}/devices/{eui}/readings", { params: { path } });
    readings = data ?? readings;
    if (numbers.length === 0) return;
    const now = Date.now();
    const wanted = numbers.slice(0, MOST_LINES).map((reading) => ({ device: eui, reading }));
    const chart = await api.POST("/api/v1/estates/{estate}/chart", {
      params: { path: { estate: session.estate } },
      body: { lines: wanted, from: new Date(now - DAY_MS).toISOString(), until: new Date(now).toISOString(), points: 96 },
    });
    lines = chart.data?.lines ?? lines;
    until = now;
  }

  const day = (name: string) => lines.find((line) => line.reading === name)?.points.map(({ at_ms, value }) => ({ at_ms, value: value ?? null })) ?? [];
</script>

<section class="rounded-box border border-base-300 p-4">
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
                <Sparkline points={day(reading.name)} from={until - DAY_MS} {until} label="{reading.name}, the last 24 hours" step={reading.kind === "state"} />
              </dd>{/if}
            {#if reading.kind === "total"}<dd class="text-sm text-base-content/75">
                running total{reading.raw != null ? `, its device says ${short(reading.raw)}` : ""}
              </dd>
            {:else if reading.day && reading.day.count > 1 && reading.kind === "measured"}<dd class="text-sm text-base-content/75">
                day: {short(reading.day.least)} to {short(reading.day.most)}
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
</section>
