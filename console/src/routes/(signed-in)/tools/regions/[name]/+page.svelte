<script lang="ts">
  import { goto } from "$app/navigation";
  import { page } from "$app/state";
  import type { RegionDetail } from "#lib/api.ts";
  import Band from "#lib/components/airtime/Band.svelte";
  import RegionSelect from "#lib/components/common/RegionSelect.svelte";
  import Card from "#lib/components/common/Card.svelte";
  import RegionChannels from "#lib/components/tools/RegionChannels.svelte";
  import DataTable from "#lib/components/common/DataTable.svelte";

  let { data }: { data: { region: RegionDetail } } = $props();
  const region = $derived(data.region);
  const name = $derived(page.params.name ?? "");

  const longest = (ms: number | null | undefined) => (ms == null ? "of any length" : `at most ${ms} ms`);
  const dwell = $derived.by(() => {
    const { uplink_ms, downlink_ms, by_command, source } = region.dwell;
    if (uplink_ms == null && downlink_ms == null) return "No dwell time limit.";
    const until = by_command ? ", unless TxParamSetupReq changes it" : "";
    return `Uplinks are ${longest(uplink_ms)}, downlinks ${longest(downlink_ms)}${until}.${source ? ` (${source})` : ""}`;
  });
  const hops = (all: number[]) => (all.length > 1 ? `${all[0]} to ${all.at(-1)} MHz, ${all.length} channels in turn` : `${all[0]} MHz`);
</script>

<svelte:head><title>{name} · Keen Heron</title></svelte:head>

<div class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
  <h1>{region.name}</h1>
  <label class="flex items-center gap-2">
    <span class="sr-only">Region</span>
    <RegionSelect width="select-sm w-44" value={name} choose={(other) => goto(`/tools/regions/${other}`)} />
  </label>
  <span class="text-base-content/75">{region.title} · {region.source}</span>
</div>

<div class="mb-2"><Band {region} /></div>
{#each region.notes as note (note)}<p class="mb-1 border-l-4 border-secondary/50 pl-3">{note}</p>{/each}

<div class="mt-4 grid grid-cols-1 items-start gap-5 lg:grid-cols-[1.25fr_1fr]">
  <div class="grid min-w-0 grid-cols-1 gap-5">
    <Card>
      <h2 class="mb-1">Data rates and largest payloads</h2>
      <DataTable class="table-sm tabular-nums" aria-label="Data rates">
        {#snippet head()}<th>DR</th><th>Modulation</th><th>Use</th><th class="text-right">Bytes</th><th class="text-right">Repeater</th>
          {#if region.dwell.by_command}<th class="text-right">Dwell on</th>{/if}
          <th class="text-right">Sensitivity</th>{/snippet}
        {#each region.data_rates as rate (rate.index)}
          <tr>
            <td class="font-semibold">DR{rate.index}</td>
            <td class="whitespace-nowrap">{rate.modulation}</td>
            <td>{rate.direction}</td>
            <td class="text-right">{rate.max_payload ?? "–"}</td>
            <td class="text-right">{rate.max_payload_repeater ?? "–"}</td>
            {#if region.dwell.by_command}<td class="text-right">{rate.max_payload_dwell ?? "–"}</td>{/if}
            <td class="text-right whitespace-nowrap">{rate.sensitivity_dbm != null ? `${Math.round(rate.sensitivity_dbm)} dBm` : "–"}</td>
          </tr>
        {/each}
      </DataTable>
      <p class="mt-2 text-sm text-base-content/75">Bytes of FRMPayload in a frame without MAC commands in its header. Sensitivity at a noise figure of 6 dB.</p>
    </Card>

    <Card>
      <h2 class="mb-1">Receive windows</h2>
      <p>RX1 is on {region.rx1_channel}. RX2 is on <b>{region.rx2_mhz} MHz</b> at <b>DR{region.rx2_data_rate}</b>.</p>
      {#each [{ title: "RX1 data rate by RX1DROffset", table: region.rx1_data_rates }, { title: "While DownlinkDwellTime is on", table: region.rx1_data_rates_dwell ?? [] }] as part (part.title)}
        {#if part.table.length}
          <p class="mt-2 text-sm text-base-content/75">{part.title}</p>
          <DataTable class="table-xs w-auto tabular-nums" aria-label={part.title}>
            {#snippet head()}<th>Uplink</th>{#each part.table[0]?.rx1 ?? [] as _, offset (offset)}<th>{offset}</th>{/each}{/snippet}
            {#each part.table as row (row.uplink)}
              <tr
                ><td class="font-semibold">DR{row.uplink}</td>{#each row.rx1 as rate, offset (offset)}<td>DR{rate}</td>{/each}</tr
              >
            {/each}
          </DataTable>
        {/if}
      {/each}
      <p class="mt-2">
        Beacon: {hops(region.class_b.beacon_mhz)} at DR{region.class_b.beacon_data_rate}. Ping slots: {hops(region.class_b.ping_slot_mhz)} at DR{region.class_b
          .ping_slot_data_rate}.
      </p>
    </Card>
  </div>

  <div class="grid min-w-0 grid-cols-1 gap-5">
    <RegionChannels {region} />

    <Card>
      <h2 class="mb-1">Power and limits</h2>
      <p>
        TXPower 0 to {region.tx_power_dbm.length - 1}: {region.tx_power_dbm[0]} dBm down to {region.tx_power_dbm.at(-1)} dBm in steps of 2 dB, {region.tx_power_reference}.
      </p>
      <p class="mt-1">
        {dwell}
      </p>
      <DataTable class="table-sm mt-1 tabular-nums" aria-label="Sub-bands">
        {#snippet head()}<th>Sub-band</th><th>MHz</th><th>Duty cycle</th><th>EIRP</th>{/snippet}
        {#each region.sub_bands as band (band.name)}
          <tr title={band.source}>
            <td class="font-semibold">{band.name}</td>
            <td>{band.from_mhz}–{band.to_mhz}</td>
            <td>{band.duty_cycle_percent != null ? `${band.duty_cycle_percent} %` : "none"}</td>
            <td>{band.max_eirp_dbm} dBm{band.gateway_eirp_dbm !== band.max_eirp_dbm ? `, gateways ${band.gateway_eirp_dbm} dBm` : ""}</td>
          </tr>
        {/each}
      </DataTable>
      <p class="mt-1 text-sm text-base-content/75">{[...new Set(region.sub_bands.map((b) => b.source))].join("; ")}</p>
    </Card>

    <Card>
      <h2 class="mb-1">Channel masks and lists</h2>
      <p>CFList {region.cf_list}.</p>
      <dl class="mt-1 grid grid-cols-[auto_1fr] gap-x-3 text-sm">
        {#each region.ch_mask_cntl as meaning, cntl (cntl)}
          <dt class="font-semibold tabular-nums">ChMaskCntl {cntl}</dt>
          <dd class={meaning === "reserved" ? "text-base-content/75" : ""}>{meaning}</dd>
        {/each}
      </dl>
    </Card>
  </div>
</div>
