<!-- What the links of each device come to, those in trouble first; one unfolded shows its links. -->
<script lang="ts">
  import { api, call, every, type DeviceCoverage } from "#lib/api.ts";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import Empty from "#lib/components/common/Empty.svelte";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import State from "#lib/components/common/State.svelte";
  import SignalChart from "#lib/components/coverage/SignalChart.svelte";
  import { resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  /** The worst first. */
  const ORDER = ["weak_by_fault", "not_heard", "weak_by_nature", "out_of_reach", "one_gateway", "unknown", "good"];

  const path = $derived({ estate: session.estate });
  const held = resource(() => every((query) => call(api.GET("/api/v1/estates/{estate}/coverage", { params: { path, query } }))));
  let only = $state("");
  let open = $state<string | null>(null);
  let signal = $state<string | null>(null);
  const links = resource(async () => {
    if (!open) return [];
    return (await call(api.GET("/api/v1/estates/{estate}/links", { params: { path, query: { device: open, by: "measured" } } }))).items;
  });
  const rank = (one: DeviceCoverage) => ORDER.indexOf(one.verdict);
  const sorted = $derived((held.value ?? []).toSorted((a, b) => rank(a) - rank(b) || a.device.localeCompare(b.device)));
  const shown = $derived(sorted.filter((one) => !only || one.verdict === only));
  const counts = $derived(
    ORDER.map((verdict) => ({ verdict, count: sorted.filter((one) => one.verdict === verdict).length })).filter(({ count }) => count > 0),
  );
  const decibel = (value: number | null | undefined) => (value == null ? "–" : `${value.toFixed(1)} dB`);
</script>

<Notice text={held.problem || links.problem} />
{#if held.value?.length === 0}
  <Empty title="No device here yet"><p class="my-2">Register devices and give them a place: then their links are forecast and compared.</p></Empty>
{:else if held.value}
  <div class="mb-3 flex flex-wrap gap-2" role="group" aria-label="Only one verdict">
    <button class="btn btn-sm {only === '' ? 'btn-neutral' : ''}" aria-pressed={only === ""} onclick={() => (only = "")}>All {sorted.length}</button>
    {#each counts as { verdict, count } (verdict)}
      <button class="btn btn-sm {only === verdict ? 'btn-neutral' : ''}" aria-pressed={only === verdict} onclick={() => (only = verdict)}>
        {verdict.replaceAll("_", " ")}
        {count}
      </button>
    {/each}
  </div>
  <DataTable>
    {#snippet head()}<th>Device</th><th>Verdict</th><th class="text-right">Margin now</th><th class="hidden sm:table-cell">Best</th><th
        class="hidden md:table-cell">If that fails</th
      ><th class="hidden md:table-cell">Why</th>{/snippet}
    {#each shown as one (one.dev_eui)}
      <tr data-verdict={one.verdict} data-device={one.device}>
        <td class="whitespace-nowrap">
          <button
            class="link font-semibold link-hover"
            aria-expanded={open === one.dev_eui}
            onclick={() => ([open, signal] = [open === one.dev_eui ? null : one.dev_eui, null])}
          >
            {one.device}
          </button>
        </td>
        <td><State state={one.verdict} /></td>
        <td class="text-right tabular-nums">{decibel(one.margin_db)}</td>
        <td class="hidden whitespace-nowrap sm:table-cell">{one.best ?? "–"}</td>
        <td class="hidden whitespace-nowrap md:table-cell">{one.second ? `${one.second}, ${decibel(one.margin_without_best_db)}` : "nothing"}</td>
        <td class="hidden text-sm md:table-cell">{one.words}</td>
      </tr>
      {#if open === one.dev_eui}
        <tr data-links={one.device}>
          <td colspan="6" class="bg-base-200">
            <p class="mb-2 text-sm md:hidden">{one.words}</p>
            {#if links.value && links.value.length > 0}
              <DataTable class="table-xs">
                {#snippet head()}<th>Gateway</th><th class="text-right">Distance</th><th class="text-right">Forecast</th><th class="text-right">RSSI</th><th
                    class="text-right">SNR</th
                  ><th class="text-right">Heard</th><th class="text-right">Difference</th>{/snippet}
                {#each links.value as link (link.gateway_eui)}
                  <tr>
                    <td class={link.assigned ? "font-semibold" : ""}>
                      <button
                        class="link link-hover"
                        aria-expanded={signal === link.gateway}
                        onclick={() => (signal = signal === link.gateway ? null : link.gateway)}
                      >
                        {link.gateway}
                      </button>
                    </td>
                    <td class="text-right tabular-nums">{(link.distance_m / 1000).toFixed(2)} km</td>
                    <td class="text-right tabular-nums">{link.forecast_dbm.toFixed(1)} dBm</td>
                    <td class="text-right tabular-nums">{link.measured ? `${link.measured.rssi_dbm.toFixed(0)} dBm` : "–"}</td>
                    <td class="text-right tabular-nums">{link.measured ? decibel(link.measured.snr_db) : "–"}</td>
                    <td class="text-right tabular-nums">{link.measured ? `${link.measured.heard} of ${link.measured.of}` : "–"}</td>
                    <td class="text-right tabular-nums">{decibel(link.residual_db)}</td>
                  </tr>
                {/each}
              </DataTable>
              {#if signal}<div class="mt-3 max-w-4xl">
                  {#key signal}<SignalChart device={one.device} gateway={signal} />{/key}
                </div>{/if}
            {:else if links.value}
              <p>No link can be forecast: the device has no place, or no gateway has one.</p>
            {/if}
            <p class="mt-2 text-sm"><a class="link" href="/devices/{one.dev_eui}">To the device</a></p>
          </td>
        </tr>
      {/if}
    {/each}
  </DataTable>
{:else if !held.problem}
  <Loading />
{/if}
