<!-- Signal and data rate of a device's latest uplinks, over time. -->
<script lang="ts">
  import type { Message } from "#lib/api.ts";
  import { moment } from "#lib/format.ts";
  import Sparkline from "#lib/components/common/Sparkline.svelte";
  import Card from "#lib/components/common/Card.svelte";

  let { messages }: { messages: Message[] } = $props();
  type Heard = { at_ms: number; snr: number | null; rssi: number | null; rate: number | null };

  const heard = $derived(
    messages
      .flatMap((message): Heard[] => {
        if (message.type !== "uplink") return [];
        if (message.rehearsed) return [];
        // The engine lists the gateways best first.
        const best = message.heard_by[0];
        return [{ at_ms: Date.parse(message.time), snr: best?.snr_db ?? null, rssi: best?.rssi_dbm ?? null, rate: message.radio.data_rate ?? null }];
      })
      .reverse(),
  );
  const from = $derived(heard[0]?.at_ms ?? 0);
  const until = $derived(heard.at(-1)?.at_ms ?? 0);
  const rows = $derived([
    { name: "Best SNR", unit: "dB", digits: 1, of: (one: Heard) => one.snr, step: false },
    { name: "Best RSSI", unit: "dBm", digits: 0, of: (one: Heard) => one.rssi, step: false },
    { name: "Data rate", unit: "DR", digits: 0, of: (one: Heard) => one.rate, step: true },
  ]);
  const numbers = (of: (one: Heard) => number | null) => heard.flatMap((one) => of(one) ?? []);
  function range(of: (one: Heard) => number | null, unit: string, digits: number): string {
    const all = numbers(of);
    if (all.length === 0) return "not known";
    const [least, most, last] = [Math.min(...all), Math.max(...all), all.at(-1) ?? 0].map((n) => n.toFixed(digits));
    const told = (n: string | undefined) => (unit === "DR" ? `DR${n}` : `${n} ${unit}`);
    return least === most ? told(last) : `${told(last)}, was ${least} to ${most}`;
  }
</script>

<Card data-signal>
  <h2 class="mb-1">Signal and data rate</h2>
  {#if heard.length === 0}
    <p class="text-base-content/75">No uplinks yet.</p>
  {:else}
    <p class="mb-2 text-sm text-base-content/75">{heard.length} uplinks{heard.length > 1 ? `, ${moment(from)} to ${moment(until)}` : ""}</p>
    <dl class="grid grid-cols-[6rem_1fr] items-center gap-x-3 gap-y-2">
      {#each rows as row (row.name)}
        <dt class="text-sm text-base-content/75">{row.name}</dt>
        <dd>
          <span class="text-sm tabular-nums">{range(row.of, row.unit, row.digits)}</span>
          <Sparkline points={heard.map((one) => ({ at_ms: one.at_ms, value: row.of(one) }))} {from} {until} label="{row.name} over time" step={row.step} />
        </dd>
      {/each}
    </dl>
  {/if}
</Card>
