<!-- Which site next, and which could go: the sites of a forecast by what they add to the gateways. -->
<script lang="ts">
  import { api, call, type Forecast, type SiteWorth } from "#lib/api.ts";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import { resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  let { forecast }: { forecast: Forecast } = $props();
  const path = $derived({ estate: session.estate, forecast: forecast.id });
  const held = resource(() => call(api.GET("/api/v1/estates/{estate}/forecasts/{forecast}/ranking", { params: { path } })));
  const tables = $derived(
    held.value
      ? [
          {
            title: "Would add to the gateways",
            rows: held.value.add,
            none: "No planned site is part of this forecast: plan one under Sites, and make a forecast with it.",
          },
          { title: "Lost without", rows: held.value.remove, none: "No gateway is part of this forecast." },
        ]
      : [],
  );
  const area = (worth: SiteWorth, by: "once" | "twice") => `${worth.more[by].area_km2.toFixed(1)} km²`;
</script>

<Notice text={held.problem} />
{#if held.value}
  <div class="grid items-start gap-4 md:grid-cols-2" data-where-next>
    {#each tables as { title, rows, none } (title)}
      <div>
        <h3 class="mb-1 font-semibold">{title}</h3>
        {#if rows.length === 0}
          <p class="text-sm text-base-content/75">{none}</p>
        {:else}
          <table class="table-xs table">
            <thead>
              <tr
                ><th>Site</th><th class="text-right">Area</th><th class="text-right">Devices</th><th class="text-right">Area by two</th><th class="text-right"
                  >Devices by two</th
                ></tr
              >
            </thead>
            <tbody>
              {#each rows as worth (worth.site)}
                <tr data-worth={worth.site}>
                  <td>{worth.site}</td>
                  <td class="text-right tabular-nums">{area(worth, "once")}</td>
                  <td class="text-right tabular-nums">{worth.more.once.devices}</td>
                  <td class="text-right tabular-nums">{area(worth, "twice")}</td>
                  <td class="text-right tabular-nums">{worth.more.twice.devices}</td>
                </tr>
              {/each}
            </tbody>
          </table>
        {/if}
      </div>
    {/each}
  </div>
{:else if !held.problem}
  <Loading />
{/if}
