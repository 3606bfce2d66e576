<!-- Where a device is, and what else is known of it. -->
<script lang="ts">
  import { api, call, type DeviceChange, type DeviceDetail } from "#lib/api.ts";
  import { session } from "#lib/session.svelte.ts";
  import { Action } from "#lib/resource.svelte.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import PlaceMap from "#lib/components/common/PlaceMap.svelte";

  let { device, done }: { device: DeviceDetail; done: () => void } = $props();

  type Attribute = { name: string; text: string };
  let form = $state({
    latitude: null as number | null,
    longitude: null as number | null,
    height: null as number | null,
    indoor: "",
    gain: null as number | null,
    loss: null as number | null,
  });
  let attributes = $state<Attribute[]>([]);
  const act = new Action();
  let saved = $state(false);

  // News of a device must not undo what is being typed.
  let filled = "";
  $effect(() => {
    if (filled === device.dev_eui) return;
    filled = device.dev_eui;
    const { place } = device;
    const indoor = place?.indoor == null ? "" : place.indoor ? "in" : "out";
    form = {
      latitude: place?.latitude_deg ?? null,
      longitude: place?.longitude_deg ?? null,
      height: place?.height_m ?? null,
      indoor,
      gain: place?.antenna_gain_dbi ?? null,
      loss: place?.penetration_loss_db ?? null,
    };
    attributes = Object.entries(device.attributes ?? {}).map(([name, text]) => ({ name, text }));
  });

  const points = $derived(
    form.latitude == null || form.longitude == null
      ? []
      : [{ name: device.name, kind: "device" as const, state: device.state, latitude_deg: form.latitude, longitude_deg: form.longitude }],
  );

  function place(): DeviceChange["place"] {
    const { latitude, longitude, height, indoor, gain, loss } = form;
    if (latitude == null || longitude == null) return null;
    const inside = indoor === "" ? null : indoor === "in";
    return { latitude_deg: latitude, longitude_deg: longitude, height_m: height, indoor: inside, antenna_gain_dbi: gain, penetration_loss_db: loss };
  }

  async function save(event: SubmitEvent) {
    event.preventDefault();
    // Those that are not in the form any more are taken away.
    const gone = Object.keys(device.attributes ?? {}).map((name) => [name, null]);
    const kept = attributes.filter(({ name }) => name.trim()).map(({ name, text }) => [name.trim(), text.trim() || null]);
    const body = { place: place(), attributes: Object.fromEntries([...gone, ...kept]) };
    const path = { estate: session.estate, eui: device.dev_eui };
    const data = await act.run(() => call(api.PATCH("/api/v1/estates/{estate}/devices/{eui}", { params: { path }, body })));
    saved = Boolean(data);
    if (data) done();
  }
</script>

<Card title="Place and attributes" data-place>
  <form class="flex flex-wrap items-end gap-3" onsubmit={save} oninput={() => (saved = false)}>
    <Field label="Latitude, °">
      <input class="input input-sm w-32" name="latitude_deg" type="number" step="any" min="-90" max="90" bind:value={form.latitude} />
    </Field>
    <Field label="Longitude, °">
      <input class="input input-sm w-32" name="longitude_deg" type="number" step="any" min="-180" max="180" bind:value={form.longitude} />
    </Field>
    <Field label="Above the ground, m">
      <input class="input input-sm w-28" name="height_m" type="number" step="any" bind:value={form.height} />
    </Field>
    <Field label="Indoors">
      <select class="select select-sm w-28" name="indoor" bind:value={form.indoor}>
        <option value="">not known</option>
        <option value="in">indoors</option>
        <option value="out">outdoors</option>
      </select>
    </Field>
    <Field label="Antenna gain, dBi">
      <input class="input input-sm w-28" name="antenna_gain_dbi" type="number" step="any" min="-20" max="20" placeholder="0" bind:value={form.gain} />
    </Field>
    <Field label="Lost around it, dB">
      <input
        class="input input-sm w-28"
        name="penetration_loss_db"
        type="number"
        step="any"
        min="0"
        max="60"
        placeholder={form.indoor === "in" ? "15" : "0"}
        bind:value={form.loss}
      />
    </Field>
    <div class="w-full">
      <PlaceMap
        {points}
        label="Map of this device"
        height="14rem"
        pick={(latitude, longitude) => {
          form = { ...form, latitude, longitude };
          saved = false;
        }}
      />
      <p class="mt-1 text-sm text-base-content/75">Click the map to set the place. An empty latitude takes it away.</p>
    </div>
    <div class="flex w-full flex-col gap-2">
      {#each attributes as attribute, n (n)}
        <div class="flex flex-wrap items-center gap-2">
          <input class="input input-sm w-40" aria-label="Name of attribute {n + 1}" maxlength="40" bind:value={attribute.name} autocomplete="off" />
          <input class="input input-sm w-64" aria-label="Text of attribute {n + 1}" maxlength="200" bind:value={attribute.text} autocomplete="off" />
          <button class="btn btn-ghost btn-sm" type="button" onclick={() => (attributes = attributes.filter((_, other) => other !== n))}>Remove</button>
        </div>
      {/each}
    </div>
    <button class="btn btn-sm" type="button" onclick={() => (attributes = [...attributes, { name: "", text: "" }])}>Add attribute</button>
    <button class="btn btn-primary btn-sm">Save</button>
    {#if saved}<span class="text-sm text-success" role="status">Saved.</span>{/if}
  </form>
  {#if act.problem}<div class="mt-3"><Notice text={act.problem} /></div>{/if}
</Card>
