<!-- A day of one sub-band: each quarter of an hour against a quarter of the hour's allowance. -->
<script lang="ts">
  import { minute } from "#lib/format.ts";
  import type { DayStrip } from "#lib/api.ts";

  let { strip, at, axis }: { strip: DayStrip; at: string; axis: boolean } = $props();

  const WIDTH = 480;
  const HEIGHT = 36;
  const share = $derived(strip.allowance_ms / 4);
  const bar = $derived(WIDTH / strip.quarters_ms.length);
  /** Small amounts must show as well: the height follows the root. */
  const height = (ms: number) => (ms > 0 ? Math.max(2, Math.min(1, Math.sqrt(ms / share)) * HEIGHT) : 0);
  const tone = (ms: number) => (ms >= share ? "fill-error" : ms >= share * 0.8 ? "fill-warning" : "fill-primary");
  const hour = (back: number) => minute(Date.parse(at) - back * 3600_000);
  const words = $derived(`Sub-band ${strip.sub_band} in the last 24 hours: ${(strip.airtime_ms / 1000).toFixed(1)} s in ${strip.frames} frames`);
</script>

<figure class="mt-2 grid grid-cols-[minmax(1.25rem,auto)_1fr_6rem] items-center gap-x-2">
  <figcaption class="text-sm whitespace-nowrap"><b>{strip.sub_band}</b></figcaption>
  <svg viewBox="0 0 {WIDTH} {HEIGHT}" class="h-7 w-full bg-base-200" preserveAspectRatio="none" role="img" aria-label={words}>
    {#each strip.quarters_ms as ms, i (i)}
      {#if ms > 0}
        <rect x={i * bar + 0.5} y={HEIGHT - height(ms)} width={bar - 1} height={height(ms)} class={tone(ms)}>
          <title>{(ms / 1000).toFixed(2)} s in a quarter of an hour; {(share / 1000).toFixed(1)} s would be its share</title>
        </rect>
      {/if}
    {/each}
  </svg>
  <span class="text-right text-sm tabular-nums">{(strip.airtime_ms / 1000).toFixed(1)} s · {strip.frames}</span>
  {#if axis}
    <div class="col-start-2 flex justify-between text-xs text-base-content/75 tabular-nums">
      {#each [24, 18, 12, 6, 0] as back (back)}<span>{hour(back)}</span>{/each}
    </div>
    <span class="text-right text-xs text-base-content/75">airtime · frames</span>
  {/if}
</figure>
