<!-- The channels of a region: equally spaced ones as one line. -->
<script lang="ts">
  import type { ChannelInfo, RegionDetail } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import { runs, span } from "#lib/format.ts";

  let { region }: { region: RegionDetail } = $props();

  type Placed = { frequency_mhz: number };
  const khz = (a: Placed, b: Placed) => Math.round((b.frequency_mhz - a.frequency_mhz) * 1000);
  /** Equally spaced channels with the same limits as one line. */
  function rows(channels: ChannelInfo[]): ChannelInfo[][] {
    const like = runs(channels, (a, b) => a.added === b.added && a.sub_band === b.sub_band && a.max_data_rate === b.max_data_rate);
    return like.flatMap(evenly);
  }
  /** A run cut where its spacing changes. */
  function evenly<T extends Placed>(run: T[]): T[][] {
    const out: T[][] = [];
    for (const one of run) {
      const last = out.at(-1);
      const [first, second] = last ?? [];
      const before = last?.at(-1);
      if (last && before && (!first || !second || khz(before, one) === khz(first, second))) last.push(one);
      else out.push([one]);
    }
    return out;
  }
  const joins = $derived(runs(region.joins, (a, b) => a.max_data_rate === b.max_data_rate && b.index === a.index + 1).flatMap(evenly));
  const rates = (c: { min_data_rate: number; max_data_rate: number }) => span(`DR${c.min_data_rate}`, `DR${c.max_data_rate}`);
</script>

<Card>
  <h2 class="mb-1">Channels</h2>
  {#each [{ title: "Uplink", channels: region.uplinks }, { title: "Downlink", channels: region.downlinks }] as part (part.title)}
    {#if part.channels.length}
      <DataTable class="table-sm tabular-nums" aria-label="{part.title} channels">
        {#snippet head()}<th>{part.title}</th><th>MHz</th><th>Data rates</th><th></th>{/snippet}
        {#each rows(part.channels) as run (run[0]?.index)}
          {@const first = run[0]!}
          {@const last = run.at(-1)!}
          <tr>
            <td>{span(first.index, last.index)}</td>
            <td>{span(first.frequency_mhz, last.frequency_mhz)}{run.length > 1 ? `, every ${khz(first, run[1]!)} kHz` : ""}</td>
            <td class="whitespace-nowrap">{rates(first)}</td>
            <td class="text-secondary">{first.added ? "added" : ""}</td>
          </tr>
        {/each}
      </DataTable>
    {/if}
  {/each}
  {#if region.blocks.length}
    <details class="mt-2">
      <summary class="cursor-pointer text-secondary">Blocks of eight channels and a wide one</summary>
      <DataTable class="table-xs mt-1 tabular-nums" aria-label="Blocks">
        {#snippet head()}<th>Block</th><th>Channels</th><th>MHz</th>{/snippet}
        {#each region.blocks as block (block.number)}
          <tr><td class="font-semibold">{block.number}</td><td>{block.channels}</td><td>{block.from_mhz}–{block.to_mhz}</td></tr>
        {/each}
      </DataTable>
    </details>
  {/if}
  <p class="mt-2 text-sm">
    Join-requests:
    {#each joins as run, i (i)}
      {i ? "; " : ""}channel {span(run[0]!.index, run.at(-1)!.index)} ({span(run[0]!.frequency_mhz, run.at(-1)!.frequency_mhz)} MHz) at {rates(run[0]!)}{/each}.
  </p>
</Card>
