<!-- Sites: gateways, and those that are planned by a click on the map. -->
<script lang="ts">
  import { api, call, every, type Site } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Confirm from "#lib/components/common/Confirm.svelte";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import PlaceMap from "#lib/components/common/PlaceMap.svelte";
  import { Action, resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { sitePoints } from "#lib/sites.ts";

  const path = $derived({ estate: session.estate });
  const held = resource(() => every((query) => call(api.GET("/api/v1/estates/{estate}/sites", { params: { path, query } }))));
  const act = new Action();
  const EMPTY = { name: "", latitude: null as number | null, longitude: null as number | null, height: 10, gain: 3 };
  let form = $state({ ...EMPTY });

  const points = $derived(sitePoints(held.value ?? []));
  const chosen = $derived<[number, number] | null>(form.latitude == null || form.longitude == null ? null : [form.latitude, form.longitude]);

  async function add(event: SubmitEvent) {
    event.preventDefault();
    const body = {
      name: form.name,
      latitude_deg: form.latitude ?? 0,
      longitude_deg: form.longitude ?? 0,
      radio: { height_m: form.height, antenna: { gain_dbi: form.gain } },
    };
    const made = await act.run(() => call(api.POST("/api/v1/estates/{estate}/sites", { params: { path }, body })));
    if (!made) return;
    form = { ...EMPTY };
    await held.load();
  }

  async function remove(site: Site) {
    await act.run(() => call(api.DELETE("/api/v1/estates/{estate}/sites/{site}", { params: { path: { ...path, site: site.name } } })));
    await held.load();
  }

  function antenna({ radio }: Site): string {
    const about = radio.antenna;
    const gain = `${about?.gain_dbi ?? 0} dBi`;
    if (about?.azimuth_deg == null) return `${gain}, all around`;
    return `${gain}, ${about.horizontal_beam_deg ?? 0}° wide towards ${about.azimuth_deg}°`;
  }
</script>

<Notice text={act.problem || held.problem} />
{#if held.value}
  <PlaceMap
    {points}
    {chosen}
    label="Map of sites"
    height="24rem"
    pick={session.may("gateways") ? (latitude, longitude) => (form = { ...form, latitude, longitude }) : undefined}
  />
  {#if session.may("gateways")}
    <Card tag="form" class="mt-4" title="Plan a site" onsubmit={add} data-add-site>
      <div class="flex flex-wrap items-end gap-3">
        <Field label="Name"><input class="input input-sm w-44" name="name" required maxlength="80" autocomplete="off" bind:value={form.name} /></Field>
        <Field label="Latitude, °">
          <input class="input input-sm w-32" name="latitude_deg" type="number" step="any" min="-85" max="85" required bind:value={form.latitude} />
        </Field>
        <Field label="Longitude, °">
          <input class="input input-sm w-32" name="longitude_deg" type="number" step="any" min="-180" max="180" required bind:value={form.longitude} />
        </Field>
        <Field label="Above the ground, m">
          <input class="input input-sm w-28" name="height_m" type="number" step="any" min="0.5" max="1000" required bind:value={form.height} />
        </Field>
        <Field label="Antenna gain, dBi">
          <input class="input input-sm w-28" name="gain_dbi" type="number" step="any" min="-20" max="30" required bind:value={form.gain} />
        </Field>
        <button class="btn btn-primary btn-sm">Plan</button>
      </div>
      <p class="mt-2 text-sm text-base-content/75">Click the map to set the place.</p>
    </Card>
  {/if}
  <div class="mt-4">
    <DataTable>
      {#snippet head()}<th>Site</th><th>Kind</th><th class="hidden sm:table-cell">Place</th><th class="text-right">Height</th><th class="hidden sm:table-cell"
          >Antenna</th
        ><th></th>{/snippet}
      {#each held.value as site (site.name)}
        <tr data-site={site.name}>
          <td class="font-semibold">
            {#if site.gateway}<a class="link link-hover" href="/gateways/{site.gateway}">{site.name}</a>{:else}{site.name}{/if}
          </td>
          <td>{site.gateway ? "gateway" : "planned"}</td>
          <td class="hidden tabular-nums sm:table-cell">
            {site.latitude_deg == null || site.longitude_deg == null ? "not known" : `${site.latitude_deg.toFixed(5)}, ${site.longitude_deg.toFixed(5)}`}
          </td>
          <td class="text-right tabular-nums">{site.radio.height_m} m</td>
          <td class="hidden sm:table-cell">{antenna(site)}</td>
          <td class="text-right">
            {#if !site.gateway && session.may("gateways")}
              <Confirm label="Remove" what="Forecasts that were made with it stay as they are." sure="Remove {site.name}" run={() => remove(site)} />
            {/if}
          </td>
        </tr>
      {/each}
    </DataTable>
  </div>
{:else if !held.problem}
  <Loading />
{/if}
