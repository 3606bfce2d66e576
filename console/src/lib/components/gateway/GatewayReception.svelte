<!-- What a gateway hears: signal, channels, data rates, and what nobody else hears. And how much of the time. -->
<script lang="ts">
  import { api, call, every } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { ago } from "#lib/format.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import Scatter from "#lib/components/common/Scatter.svelte";
  import Card from "#lib/components/common/Card.svelte";
  import { resource } from "#lib/resource.svelte.ts";

  let { eui }: { eui: string } = $props();

  const params = $derived({ path: { estate: session.estate, eui } });
  const held = resource(
    async () => {
      const [reception, days] = await Promise.all([
        call(api.GET("/api/v1/estates/{estate}/gateways/{eui}/reception", { params })),
        every((query) => call(api.GET("/api/v1/estates/{estate}/gateways/{eui}/uptime", { params: { ...params, query } }))),
      ]);
      return { reception, days };
    },
    { everyMs: 30_000 },
  );
  const reception = $derived(held.value?.reception ?? null);
  const days = $derived(held.value?.days ?? []);
  const problem = $derived(held.problem);
  const most = $derived(Math.max(1, ...(reception?.channels ?? []).map((channel) => channel.uplinks)));
  const known = $derived(days.filter((day) => day.listening_percent != null));
</script>

<Card data-reception>
  <h2 class="mb-1">Reception</h2>
  <Notice text={problem} />
  {#if reception && reception.uplinks > 0}
    <p class="mb-2 text-sm text-base-content/80">
      {reception.uplinks} of the estate's last {reception.looked_at} uplinks, since {ago(reception.since, live.now)}.
    </p>
    <div class="grid grid-cols-1 gap-5 lg:grid-cols-2">
      <Scatter points={reception.points} />
      <div>
        <DataTable>
          {#snippet head()}<th>Channel</th><th class="text-right">Uplinks</th><th class="hidden w-24 sm:table-cell"></th><th class="text-right">Mean RSSI</th
            ><th class="text-right" title="From frames with an SNR up to 5 dB; stronger frames do not show the noise">Noise</th>{/snippet}
          {#each reception.channels as channel (channel.frequency_mhz)}
            <tr>
              <td class="whitespace-nowrap tabular-nums">{channel.frequency_mhz} MHz</td>
              <td class="text-right tabular-nums">{channel.uplinks}</td>
              <td class="hidden sm:table-cell"><progress class="progress w-24" value={channel.uplinks} max={most} aria-hidden="true"></progress></td>
              <td class="text-right whitespace-nowrap tabular-nums">{channel.rssi_dbm.toFixed(0)} dBm</td>
              <td class="text-right whitespace-nowrap tabular-nums">{channel.noise_dbm != null ? `${channel.noise_dbm.toFixed(0)} dBm` : "–"}</td>
            </tr>
          {/each}
        </DataTable>
        <p class="mt-2 text-sm">
          {#each reception.data_rates as rate (rate.data_rate)}
            <span class="mr-3 whitespace-nowrap tabular-nums"
              >DR{rate.data_rate}{rate.spreading_factor ? ` (SF${rate.spreading_factor})` : ""}: {rate.uplinks}</span
            >
          {/each}
        </p>
      </div>
    </div>
    <h3 class="mt-4 mb-1 font-semibold">Devices heard by no other gateway</h3>
    {#if reception.only_here.length === 0}
      <p class="text-base-content/80">None. Every device is heard by at least one more gateway.</p>
    {:else}
      <p class="mb-1 max-w-prose text-sm text-base-content/80">They are lost if this gateway fails.</p>
      <ul class="flex flex-wrap gap-x-5 gap-y-1">
        {#each reception.only_here as device (device.dev_eui)}
          <li>
            <a class="link link-hover font-semibold" href="/devices/{device.dev_eui}">{device.name}</a>
            <span class="text-sm text-base-content/80 tabular-nums"
              >{device.uplinks} uplinks{device.best_snr_db != null ? `, at best ${device.best_snr_db.toFixed(1)} dB` : ""}</span
            >
          </li>
        {/each}
      </ul>
    {/if}
  {:else if reception}
    <p class="text-base-content/75">None of the estate's last {reception.looked_at} uplinks came by it.</p>
  {/if}
  {#if known.length > 0}
    <h3 class="mt-4 mb-1 font-semibold">Online time, last 30 days</h3>
    <div
      class="flex h-10 items-end gap-px"
      role="img"
      aria-label="Share of each day in which it was listening: {known.map((day) => `${day.day} ${day.listening_percent?.toFixed(1)} %`).join(', ')}"
    >
      {#each days as day (day.day)}
        <div
          class="flex h-full flex-1 items-end bg-base-200"
          title="{day.day}: {day.listening_percent == null ? 'not known' : `${day.listening_percent.toFixed(1)} % listening, came back ${day.returns} times`}"
        >
          {#if day.listening_percent != null}
            <div
              class="w-full {day.listening_percent >= 99 ? 'bg-success' : day.listening_percent >= 90 ? 'bg-warning' : 'bg-error'}"
              style:height="{Math.max(4, day.listening_percent)}%"
            ></div>
          {/if}
        </div>
      {/each}
    </div>
    <p class="mt-1 text-sm text-base-content/80">
      Share of each day in which it was listening; days that are not known are empty. Today: {known.at(-1)?.listening_percent?.toFixed(1)} %.
    </p>
  {/if}
</Card>
