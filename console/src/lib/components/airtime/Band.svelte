<!-- A region's band as a picture: its parts, and where channels lie. -->
<script lang="ts">
  import type { RegionDetail } from "#lib/api.ts";

  let { region }: { region: RegionDetail } = $props();

  const WIDTH = 1000;
  const LEFT = 78;
  const RIGHT = 12;
  const from = $derived(region.from_mhz);
  const to = $derived(region.to_mhz);
  const x = (mhz: number) => LEFT + ((mhz - from) / (to - from)) * (WIDTH - LEFT - RIGHT);

  type Mark = { mhz: number; khz: number; tone: string; title: string };
  const lanes = $derived.by(() => {
    const channel =
      (kind: string, tone: string) =>
      (c: RegionDetail["uplinks"][number]): Mark => ({
        mhz: c.frequency_mhz,
        khz: c.bandwidth_khz,
        tone: c.added ? "fill-secondary" : tone,
        title: `${kind} channel ${c.index}: ${c.frequency_mhz} MHz, ${c.bandwidth_khz} kHz, DR${c.min_data_rate} to DR${c.max_data_rate}${c.added ? ", added by this network" : ""}`,
      });
    // Wide channels overlap narrow ones, so they get a lane of their own.
    const up = region.uplinks.map(channel("Uplink", "fill-primary"));
    const wide = up.filter((m) => m.khz > 125);
    const fixed = (word: string, khz: number, all: number[]): Mark[] =>
      all.map((mhz) => ({ mhz, khz, tone: "fill-base-content/70", title: `${word}: ${mhz} MHz` }));
    const all: { name: string; marks: Mark[] }[] = [{ name: "Uplink", marks: up.filter((m) => m.khz <= 125) }];
    if (wide.length) all.push({ name: "500 kHz", marks: wide });
    if (region.downlinks.length) all.push({ name: "Downlink", marks: region.downlinks.map(channel("Downlink", "fill-accent")) });
    all.push({ name: "RX2", marks: fixed("RX2", region.rx2_bandwidth_khz, [region.rx2_mhz]) });
    all.push({ name: "Beacon", marks: fixed("Beacon", region.class_b.bandwidth_khz, region.class_b.beacon_mhz) });
    return all;
  });

  let frame = $state<HTMLElement | null>(null);
  $effect(() => {
    const first = Math.min(...region.uplinks.map((c) => c.frequency_mhz));
    if (frame) frame.scrollLeft = (x(first) / WIDTH) * frame.scrollWidth - 100;
  });

  const BANDS = 46;
  const LANE = 30;
  const axis = $derived(BANDS + lanes.length * LANE + 8);
  const ticks = $derived.by(() => {
    const span = to - from;
    const step = [0.1, 0.2, 0.5, 1, 2, 5, 10].find((s) => span / s <= 11) ?? 10;
    const first = Math.ceil(from / step - 1e-9);
    const count = Math.floor(to / step + 1e-9) - first + 1;
    return Array.from({ length: count }, (_, i) => Math.round((first + i) * step * 1e6) / 1e6);
  });
  const words = (band: RegionDetail["sub_bands"][number]) =>
    `${band.duty_cycle_percent != null ? `${band.duty_cycle_percent} %` : "no duty cycle"} · ${band.max_eirp_dbm} dBm`;
</script>

<!-- On a phone the picture is wider than the page: it opens where the channels are. -->
<div class="overflow-x-auto" bind:this={frame}>
  <svg viewBox="0 0 {WIDTH} {axis + 26}" class="w-full min-w-[42rem]" role="img" aria-label="Channels of {region.name} on the band from {from} to {to} MHz">
    {#each region.sub_bands as band, i (band.name)}
      {@const left = x(Math.max(band.from_mhz, from))}
      {@const width = x(Math.min(band.to_mhz, to)) - left}
      <g>
        <title>{band.name}: {band.from_mhz} to {band.to_mhz} MHz, {words(band)}, {band.source}</title>
        <rect x={left} y="4" {width} height={axis - 4} class={i % 2 ? "fill-base-200" : "fill-base-300/60"} />
        {#if width > 24}
          <text x={left + width / 2} y="20" text-anchor="middle" class="fill-base-content text-[13px] font-semibold"
            >{width > 60 ? band.name : band.name.slice(0, 3)}</text
          >
        {/if}
        {#if width > 118}
          <text x={left + width / 2} y="37" text-anchor="middle" class="fill-base-content text-[12px]">{words(band)}</text>
        {:else if width > 34 && band.duty_cycle_percent != null}
          <text x={left + width / 2} y="37" text-anchor="middle" class="fill-base-content text-[12px]">{band.duty_cycle_percent} %</text>
        {/if}
      </g>
    {/each}

    {#each lanes as lane, i (lane.name)}
      {@const y = BANDS + i * LANE}
      <text x={LEFT - 10} y={y + 17} text-anchor="end" class="fill-base-content text-[13px]">{lane.name}</text>
      <line x1={LEFT} x2={WIDTH - RIGHT} y1={y + LANE - 4} y2={y + LANE - 4} class="stroke-base-content/15" />
      {#each lane.marks as mark (mark.title)}
        {@const width = Math.max(2.2, x(mark.mhz + mark.khz / 1000) - x(mark.mhz) - 0.6)}
        <rect x={x(mark.mhz) - width / 2} y={y + 4} {width} height={LANE - 8} rx="1" class={mark.tone}><title>{mark.title}</title></rect>
      {/each}
    {/each}

    <line x1={LEFT} x2={WIDTH - RIGHT} y1={axis} y2={axis} class="stroke-base-content/50" />
    {#each ticks as mhz (mhz)}
      <line x1={x(mhz)} x2={x(mhz)} y1={axis} y2={axis + 5} class="stroke-base-content/50" />
      <text x={x(mhz)} y={axis + 19} text-anchor="middle" class="fill-base-content text-[12px] tabular-nums">{mhz}</text>
    {/each}
    <text x={LEFT - 22} y={axis + 19} text-anchor="end" class="fill-base-content text-[12px]">MHz</text>
  </svg>
</div>
