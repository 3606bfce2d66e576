<!-- A forecast to be asked for: sites, receiver, model, reliability. -->
<script lang="ts">
  import { api, call, every, type Forecast, type NewForecast } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import RegionSelect from "#lib/components/common/RegionSelect.svelte";
  import { Action, resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  let { done }: { done: (forecast: Forecast) => void } = $props();

  const path = $derived({ estate: session.estate });
  const sites = resource(() => every((query) => call(api.GET("/api/v1/estates/{estate}/sites", { params: { path, query } }))));
  const receivers = resource(() => every((query) => call(api.GET("/api/v1/estates/{estate}/receivers", { params: { path, query } }))));
  const MODELS = [
    { word: "p1812", name: "ITU-R P.1812" },
    { word: "irregular_terrain", name: "Irregular terrain (Longley–Rice)" },
    { word: "diffraction", name: "Terrain diffraction (P.526)" },
    { word: "hata_open", name: "Okumura–Hata, open country" },
    { word: "hata_suburban", name: "Okumura–Hata, suburb" },
    { word: "hata_city", name: "Okumura–Hata, city" },
    { word: "free_space", name: "Free space (P.525)" },
  ] as const;
  let form = $state({
    name: "",
    receiver: "outdoors",
    model: "p1812" as NonNullable<NewForecast["model"]>,
    region: "EU868",
    reliability: 90,
    shadowing: 6,
    radius: 12,
    cell: 50,
  });
  let left = $state<string[]>([]);
  const placed = $derived((sites.value ?? []).filter((site) => site.latitude_deg != null));
  const act = new Action();

  const toggle = (name: string) => (left = left.includes(name) ? left.filter((other) => other !== name) : [...left, name]);

  async function ask(event: SubmitEvent) {
    event.preventDefault();
    const wanted: Partial<NewForecast> = {
      name: form.name,
      sites: placed.map((site) => site.name).filter((name) => !left.includes(name)),
      receiver: form.receiver,
      model: form.model,
      region: form.region,
      reliability: form.reliability / 100,
      shadowing_db: form.shadowing,
      radius_m: form.radius * 1000,
      cell_m: form.cell,
    };
    // What is left out is as the service has it.
    const body = wanted as NewForecast;
    const made = await act.run(() => call(api.POST("/api/v1/estates/{estate}/forecasts", { params: { path }, body })));
    if (made) done(made);
  }
</script>

<Card title="New forecast" tag="form" class="mb-4" onsubmit={ask} data-add>
  <fieldset class="mb-3">
    <legend class="mb-1 text-sm text-base-content/75">Sites</legend>
    <div class="flex flex-wrap gap-x-5 gap-y-1">
      {#each placed as site (site.name)}
        <label class="flex items-center gap-2">
          <input
            class="checkbox checkbox-sm"
            type="checkbox"
            name="site"
            value={site.name}
            checked={!left.includes(site.name)}
            onchange={() => toggle(site.name)}
          />
          {site.name}{site.gateway ? "" : " (planned)"}
        </label>
      {:else}
        <p>No site has a place yet: give a gateway its place, or plan a site.</p>
      {/each}
    </div>
  </fieldset>
  <div class="flex flex-wrap items-end gap-3">
    <Field label="Name"><input class="input input-sm w-44" name="name" maxlength="80" autocomplete="off" bind:value={form.name} /></Field>
    <Field label="Receiver">
      <select class="select select-sm w-36" name="receiver" bind:value={form.receiver}>
        {#each receivers.value ?? [] as one (one.name)}<option>{one.name}</option>{/each}
      </select>
    </Field>
    <Field label="Path model">
      <select class="select select-sm w-56" name="model" bind:value={form.model}>
        {#each MODELS as { word, name } (word)}<option value={word}>{name}</option>{/each}
      </select>
    </Field>
    <Field label="Region"><RegionSelect value={form.region} choose={(name) => (form.region = name)} width="select-sm w-28" /></Field>
    <Field label="Reliability, % of places">
      <input class="input input-sm w-24" name="reliability" type="number" min="1" max="99.9" step="any" bind:value={form.reliability} />
    </Field>
    <Field label="Shadowing, dB">
      <input class="input input-sm w-24" name="shadowing" type="number" min="0" max="20" step="any" bind:value={form.shadowing} />
    </Field>
    <Field label="Around each site, km">
      <input class="input input-sm w-24" name="radius" type="number" min="0.1" max="150" step="any" bind:value={form.radius} />
    </Field>
    <Field label="Cell, m">
      <input class="input input-sm w-24" name="cell" type="number" min="5" max="10000" step="any" bind:value={form.cell} />
    </Field>
    <button class="btn btn-primary btn-sm" disabled={act.busy}>Forecast</button>
  </div>
  <Notice text={act.problem || sites.problem || receivers.problem} />
</Card>
