<script lang="ts">
  import { goto } from "$app/navigation";
  import { page } from "$app/state";
  import { api, call } from "#lib/api.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import RegionSelect from "#lib/components/common/RegionSelect.svelte";
  import State from "#lib/components/common/State.svelte";
  import { duration } from "#lib/format.ts";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import { resource } from "#lib/resource.svelte.ts";

  // What is asked stands in the address, so that it can be kept and sent to others.
  const asked = $derived(page.url.searchParams);
  const region = $derived(asked.get("region") ?? "EU868");
  const payload = $derived(asked.get("payload") ?? "20");
  const interval = $derived(asked.get("interval") ?? "15");
  const unit = $derived(asked.get("unit") ?? "min");
  const daily = $derived(asked.get("daily") ?? "");
  const times = $derived(asked.get("times") ?? "1");
  const dwellOff = $derived(asked.has("dwell-off"));

  const units: Record<string, number> = { s: 1, min: 60, h: 3600, d: 86400 };

  function set(name: string, value: string) {
    const next = new URLSearchParams(asked.toString());
    if (value) next.set(name, value);
    else next.delete(name);
    void goto(`?${next}`, { replace: true, reset: false });
  }

  const number = (text: string) => (text.trim() === "" ? undefined : Number(text));

  const held = resource(() => {
    const seconds = number(interval);
    const query = {
      payload_bytes: number(payload) ?? 0,
      interval_s: seconds === undefined ? undefined : seconds * (units[unit] ?? 1),
      daily_airtime_s: number(daily),
      times: number(times),
      repeater: false,
      dwell_off: dwellOff,
    };
    return call(api.GET("/api/v1/regions/{region}/airtime", { params: { path: { region }, query } }));
  });
  const table = $derived(held.value);
  const problem = $derived(held.problem);
  const longest = $derived(Math.max(...(table?.rows.map((r) => r.airtime_ms) ?? [1])));
</script>

<svelte:head><title>Airtime · Keen Heron</title></svelte:head>

<h1 class="mb-3">What a message costs in airtime</h1>
<form class="mb-3 flex flex-wrap items-end gap-x-5 gap-y-3" onsubmit={(e) => e.preventDefault()}>
  <label class="grid gap-1">
    <span>Region</span>
    <RegionSelect width="w-40" value={region} choose={(name) => set("region", name)} />
  </label>
  <label class="grid gap-1">
    <span>Payload, bytes</span>
    <input class="input w-28 tabular-nums" type="number" min="0" max="242" value={payload} oninput={(e) => set("payload", e.currentTarget.value)} />
  </label>
  <div class="grid gap-1">
    <label for="interval">Interval</label>
    <div class="flex gap-1">
      <input
        id="interval"
        class="input w-24 tabular-nums"
        type="number"
        min="0"
        step="any"
        value={interval}
        oninput={(e) => set("interval", e.currentTarget.value)}
      />
      <select class="select w-20" aria-label="Unit of the interval" value={unit} onchange={(e) => set("unit", e.currentTarget.value)}>
        {#each Object.keys(units) as known (known)}<option>{known}</option>{/each}
      </select>
    </div>
  </div>
  <label class="grid gap-1">
    <span>Transmissions each</span>
    <input class="input w-24 tabular-nums" type="number" min="1" max="15" value={times} oninput={(e) => set("times", e.currentTarget.value)} />
  </label>
  <label class="grid gap-1">
    <span>Own airtime limit, s a day</span>
    <input
      class="input w-44 tabular-nums"
      type="number"
      min="0"
      step="any"
      placeholder="none"
      value={daily}
      oninput={(e) => set("daily", e.currentTarget.value)}
    />
  </label>
  {#if table?.dwell_by_command}
    <label class="flex items-center gap-2 pb-2">
      <input class="checkbox checkbox-sm" type="checkbox" checked={dwellOff} onchange={(e) => set("dwell-off", e.currentTarget.checked ? "yes" : "")} />
      <span>dwell time switched off</span>
    </label>
  {/if}
</form>
<Notice text={problem} />

{#if table}
  <p class="mb-2 text-base-content/80">
    {table.payload_bytes} bytes of payload make a frame of {table.phy_payload_bytes}.
    {#if table.dwell_ms}A single LoRa or FSK uplink may last {table.dwell_ms} ms at most.{/if}
    <a class="link" href="/tools/regions/{table.region}">What {table.region} allows</a>
  </p>
  <DataTable class="table-sm tabular-nums" aria-label="Airtime by data rate"
    >{#snippet head()}
      <th>DR</th><th>Modulation</th><th>Airtime</th><th>Verdict</th><th class="text-right">Limit</th><th class="text-right">Shortest interval</th>
      <th class="text-right">Messages a day</th><th class="text-right">Duty cycle</th><th class="text-right">Airtime a day</th><th class="text-right"
        >Largest payload</th
      >
    {/snippet}
    {#each table.rows as row (row.data_rate)}
      <tr class={row.fits ? "" : "text-base-content/75"} data-rate={row.data_rate}>
        <td class="font-semibold">DR{row.data_rate}</td>
        <td class="whitespace-nowrap">{row.modulation}</td>
        <td>
          <div class="flex items-center gap-2">
            <span class="w-20 text-right whitespace-nowrap">{row.airtime_ms.toFixed(1)} ms</span>
            <span
              class="hidden h-2 rounded-sm sm:block {row.fits ? 'bg-primary' : 'bg-neutral/50'}"
              style:width="{Math.max(1, (row.airtime_ms / longest) * 56)}px"
              aria-hidden="true"
            ></span>
          </div>
        </td>
        <td>
          {#if !row.fits}
            <State state={row.max_payload_bytes == null ? "not_usable" : "too_long"} />
          {:else if row.keeps_limits != null}
            <State state={row.keeps_limits ? "within_limits" : "too_often"} />
          {/if}
        </td>
        <td class="text-right whitespace-nowrap" title={row.sub_band ? `sub-band ${row.sub_band}` : ""}
          >{row.limit_percent != null ? `${row.limit_percent} %` : "none"}</td
        >
        <td class="text-right whitespace-nowrap">{row.shortest_interval_s != null ? duration(row.shortest_interval_s) : "–"}</td>
        <td class="text-right">{row.messages_a_day ?? "–"}</td>
        <td class="text-right whitespace-nowrap">{row.duty_cycle_percent != null ? `${row.duty_cycle_percent.toFixed(3)} %` : "–"}</td>
        <td class="text-right whitespace-nowrap">{row.airtime_s_a_day != null ? duration(row.airtime_s_a_day) : "–"}</td>
        <td class="text-right whitespace-nowrap" title="The largest payload that keeps the limits at this interval">
          {table.interval_s == null ? "–" : row.largest_payload_bytes != null ? `${row.largest_payload_bytes} bytes` : "none"}
        </td>
      </tr>
    {/each}
  </DataTable>
{/if}
