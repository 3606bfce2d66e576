<!-- The account of airtime: each sub-band against its hourly allowance. -->
<script lang="ts">
  import type { BandUse } from "#lib/api.ts";

  let { bands }: { bands: BandUse[] } = $props();

  /** Where an hour's allowance is all of it, nothing is limited. */
  const free = (band: BandUse) => band.allowance_ms >= 3_600_000;
  const seconds = (ms: number) => (ms < 100_000 ? (ms / 1000).toFixed(2) : (ms / 1000).toFixed(0));
</script>

{#if bands.length === 0}
  <p class="text-base-content/75">Nothing sent in the last hour.</p>
{:else}
  <ul class="space-y-3">
    {#each bands as band (band.sub_band)}
      <li>
        <div class="flex flex-wrap justify-between gap-x-4 text-sm">
          <span><b>{band.sub_band}</b> {band.from_mhz.toFixed(1)}–{band.to_mhz.toFixed(1)} MHz</span>
          <span class="tabular-nums">
            {seconds(band.airtime_ms)}{free(band) ? "" : ` of ${seconds(band.allowance_ms)}`} s · {band.frames}
            {band.frames === 1 ? "frame" : "frames"}{free(band) ? ", no limit" : ""}
          </span>
        </div>
        <div class="flex items-center gap-2">
          <progress
            class="progress h-2 {band.used_percent >= 100 ? 'progress-error' : band.used_percent >= 80 ? 'progress-warning' : 'progress-primary'}"
            value={Math.min(band.used_percent, 100)}
            max="100"
            aria-label="Share of the hour's allowance in sub-band {band.sub_band}"
          ></progress>
          <span class="w-16 text-right text-sm tabular-nums">{band.used_percent.toFixed(2)} %</span>
        </div>
      </li>
    {/each}
  </ul>
{/if}
