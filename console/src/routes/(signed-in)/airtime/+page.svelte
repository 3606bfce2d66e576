<script lang="ts">
  import { api, call, type Spans } from "#lib/api.ts";
  import Airtime from "#lib/components/airtime/Airtime.svelte";
  import DayStrip from "#lib/components/airtime/DayStrip.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import { session } from "#lib/session.svelte.ts";
  import Card from "#lib/components/common/Card.svelte";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import { resource } from "#lib/resource.svelte.ts";
  import Loading from "#lib/components/common/Loading.svelte";

  // Accounts move with every frame; once every few seconds is often enough to look.
  const held = resource(() => call(api.GET("/api/v1/estates/{estate}/airtime", { params: { path: { estate: session.estate } } })), {
    on: (message) => ["uplink", "downlink"].includes(message.type),
  });
  const ledger = $derived(held.value);
  const problem = $derived(held.problem);

  const SPANS = ["now", "hour", "day"] as const;
  const seconds = (ms: number) => `${(ms / 1000).toFixed(ms < 100_000 ? 2 : 0)} s`;
</script>

{#snippet cells(sent: Spans)}
  {#each SPANS as span (span)}
    <td class="text-right tabular-nums" title="{sent[span].frames} frames">{seconds(sent[span].airtime_ms)}</td>
  {/each}
{/snippet}

<svelte:head><title>Airtime · Keen Heron</title></svelte:head>

<h1 class="mb-1">Airtime</h1>
<p class="mb-4 max-w-prose text-base-content/80">
  Airtime used and left. The duty cycle counts over any hour, per sub-band. Gateways stay within it; devices that exceed it are marked. <i>Now</i> is the running
  minute and the one before.
</p>
<Notice text={problem} />

{#if ledger}
  <section class="mb-6">
    <h2 class="mb-2">Gateways</h2>
    <div class="grid grid-cols-1 gap-4 lg:grid-cols-2">
      {#each ledger.gateways as gateway (gateway.eui)}
        <Card tag="article" data-ledger={gateway.name}>
          <h3 class="mb-2 flex flex-wrap justify-between gap-x-4 font-semibold">
            <span>{gateway.name} <span class="font-normal text-base-content/75">{gateway.region}</span></span>
            <span class="text-sm font-normal tabular-nums"
              >now {seconds(gateway.sent.now.airtime_ms)} · hour {seconds(gateway.sent.hour.airtime_ms)} · day {seconds(gateway.sent.day.airtime_ms)}</span
            >
          </h3>
          <Airtime bands={gateway.hour} />
          {#if gateway.day.length > 0}
            <h4 class="mt-4 text-sm text-base-content/75">The last 24 hours, by quarters of an hour</h4>
            {#each gateway.day as strip, i (strip.sub_band)}
              <DayStrip {strip} at={ledger.at} axis={i === gateway.day.length - 1} />
            {/each}
          {/if}
        </Card>
      {/each}
    </div>
  </section>

  <div class="grid grid-cols-1 items-start gap-5 lg:grid-cols-2">
    <section>
      <h2 class="mb-2">Devices with most airtime</h2>
      {#if ledger.devices.length === 0}
        <p class="text-base-content/75">No device was on air.</p>
      {:else}
        <DataTable
          >{#snippet head()}<th>Device</th><th class="text-right">Now</th><th class="text-right">Hour</th><th class="text-right">Day</th><th class="text-right"
              >Share of the hour</th
            >{/snippet}
          {#each ledger.devices as device (device.eui)}
            <tr data-device={device.name}>
              <td class="whitespace-nowrap"><a class="link-hover font-semibold" href="/devices/{device.eui}">{device.name}</a></td>
              {@render cells(device.sent)}
              <td class="text-right tabular-nums {device.hour.used_percent > 100 ? 'font-semibold text-error' : ''}">
                {device.hour.used_percent > 100 ? "over: " : ""}{device.hour.used_percent.toFixed(2)} % of {device.hour.sub_band}
              </td>
            </tr>
          {/each}
        </DataTable>
      {/if}
    </section>
    <section>
      <h2 class="mb-2">Downlink airtime by device</h2>
      {#if ledger.towards.length === 0}
        <p class="text-base-content/75">No downlink was sent.</p>
      {:else}
        <DataTable
          >{#snippet head()}<th>Device</th><th class="text-right">Now</th><th class="text-right">Hour</th><th class="text-right">Day</th><th class="text-right"
              >Downlinks, day</th
            >{/snippet}
          {#each ledger.towards as device (device.eui)}
            <tr>
              <td class="whitespace-nowrap"><a class="link-hover font-semibold" href="/devices/{device.eui}">{device.name}</a></td>
              {@render cells(device.sent)}
              <td class="text-right tabular-nums">{device.sent.day.frames}</td>
            </tr>
          {/each}
        </DataTable>
      {/if}
      <h2 class="mt-5 mb-2">All sub-bands</h2>
      <DataTable
        >{#snippet head()}<th>Sub-band</th><th class="text-right">Up, now</th><th class="text-right">hour</th><th class="text-right">day</th><th
            class="text-right">Down, now</th
          ><th class="text-right">hour</th><th class="text-right">day</th>{/snippet}
        {#each ledger.sub_bands as band (band.region + band.sub_band)}
          <tr>
            <td>
              <b>{band.sub_band}</b>
              <span class="block text-xs whitespace-nowrap text-base-content/75">{band.region} {band.from_mhz.toFixed(1)}–{band.to_mhz.toFixed(1)} MHz</span>
            </td>
            {@render cells(band.up)}
            {@render cells(band.down)}
          </tr>
        {/each}
      </DataTable>
    </section>
  </div>
{:else if !problem}
  <Loading />
{/if}
