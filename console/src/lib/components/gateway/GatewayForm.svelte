<!-- What is told of a gateway: of a new one, of a stranger with what was heard of it, or of a registered one. -->
<script lang="ts">
  import { api, call, type Gateway, type Protocol, type Stranger } from "#lib/api.ts";
  import { session } from "#lib/session.svelte.ts";
  import { grouped, PROTOCOLS } from "#lib/format.ts";
  import PlaceMap from "#lib/components/common/PlaceMap.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import RegionSelect from "#lib/components/common/RegionSelect.svelte";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import { Action } from "#lib/resource.svelte.ts";

  let {
    stranger = null,
    gateway = null,
    done,
    cancel,
  }: { stranger?: Stranger | null; gateway?: Gateway | null; done: () => void; cancel?: () => void } = $props();

  let eui = $state("");
  let name = $state("");
  let region = $state("");
  let latitude = $state<number | null>(null);
  let longitude = $state<number | null>(null);
  let altitude = $state<number | null>(null);
  let gain = $state<number | null>(null);
  let loss = $state<number | null>(null);
  let beacons = $state(false);
  let open = $state(false);
  let description = $state("");
  let channels = $state("");
  let protocol = $state<Protocol | "">("");
  let source = $state("");
  let mapped = $state(false);
  const act = new Action();
  const offers = $derived(act.refusal?.offers ?? []);
  let saved = $state(false);
  let nameField: HTMLInputElement;

  // News of a gateway must not undo what is being typed: the fields follow only when it is another one.
  let filled = "";
  /** What the form was filled from: a change by somebody else meanwhile is not undone. */
  let revision = "";
  $effect(() => {
    if (!gateway || filled === gateway.eui) return;
    filled = gateway.eui;
    revision = gateway.revision ?? "";
    [eui, name, region, beacons] = [gateway.eui, gateway.name, gateway.region, gateway.beacons];
    [latitude, longitude, altitude] = [gateway.latitude_deg ?? null, gateway.longitude_deg ?? null, gateway.altitude_m ?? null];
    [gain, loss, open] = [gateway.antenna_gain_dbi, gateway.cable_loss_db, gateway.open_to_others];
    [description, channels, protocol, source] = [gateway.description, gateway.channels, gateway.protocol, gateway.udp_source ?? ""];
  });

  $effect(() => {
    if (gateway) return;
    eui = stranger ? grouped(stranger.eui) : "";
    region = stranger?.region ?? "";
    protocol = stranger?.protocol ?? "";
    act.clear();
    if (stranger) nameField.focus();
  });

  async function register(event: SubmitEvent) {
    event.preventDefault();
    const about = {
      name,
      region: region || null,
      latitude_deg: latitude,
      longitude_deg: longitude,
      altitude_m: altitude,
      antenna_gain_dbi: gain,
      cable_loss_db: loss,
      open_to_others: open,
      description,
      channels: channels || null,
      protocol: protocol || null,
      udp_source: source || null,
      beacons,
    };
    const path = { estate: session.estate };
    const data = await act.run(() =>
      call(
        gateway
          ? api.PATCH("/api/v1/estates/{estate}/gateways/{eui}", { params: { path: { ...path, eui } }, body: about, headers: { "If-Match": revision } })
          : api.POST("/api/v1/estates/{estate}/gateways", { params: { path }, body: { eui, ...about } }),
      ),
    );
    saved = Boolean(data);
    if (!data) return;
    if (gateway) {
      revision = data.revision ?? "";
      done();
      return;
    }
    [eui, name, region, description, channels, protocol, source] = ["", "", "", "", "", "", ""];
    [latitude, longitude, altitude, gain, loss, beacons, open] = [null, null, null, null, null, false, false];
    done();
  }

  function placeByGps() {
    const report = gateway?.report;
    [latitude, longitude] = [report?.latitude_deg ?? latitude, report?.longitude_deg ?? longitude];
    altitude = report?.altitude_m ?? altitude;
    saved = false;
  }

  const here = $derived(
    latitude != null && longitude != null
      ? [{ name: name || "here", state: gateway?.state ?? "never_heard", latitude_deg: latitude, longitude_deg: longitude }]
      : [],
  );

  function take(offer: string) {
    eui = grouped(offer);
    act.clear();
  }
</script>

<Card tag="form" onsubmit={register} oninput={() => (saved = false)} aria-label={gateway ? "Change the gateway" : "Register a gateway"}>
  <h2 class="mb-2">{gateway ? "Registered as" : stranger ? "Adopt a stranger" : "Register a gateway"}</h2>
  {#if stranger}
    <p class="mb-3 max-w-prose text-sm text-base-content/80">
      It connects from {stranger.address} by {PROTOCOLS[stranger.protocol]}{stranger.frequencies_mhz.length
        ? ` and hears ${stranger.frequencies_mhz.join(", ")} MHz${stranger.region ? `: channels of ${stranger.region}` : ", which are no region's channels"}`
        : "; it has heard no frame yet"}.
    </p>
  {/if}
  <div class="flex flex-wrap items-end gap-3">
    {#if !gateway}
      <Field label="EUI, or the MAC address on its label">
        <input class="input w-64 font-mono" name="eui" bind:value={eui} required autocomplete="off" spellcheck="false" />
      </Field>
    {/if}
    <Field label="Name">
      <input class="input w-48" name="name" bind:value={name} bind:this={nameField} required maxlength="80" autocomplete="off" />
    </Field>
    <Field label="Region">
      <RegionSelect
        value={region}
        choose={(chosen) => {
          region = chosen;
          channels = "";
        }}
        none={gateway ? undefined : "by the frames it hears"}
        width="w-48"
      />
    </Field>
  </div>
  <h3 class="mt-4 mb-1 text-sm font-semibold text-base-content/75">Optional</h3>
  <div class="flex flex-wrap items-end gap-3">
    <Field label="Channels">
      <input class="input w-32 font-mono" name="channels" bind:value={channels} placeholder="of the region" autocomplete="off" />
    </Field>
    <Field label="Protocol">
      <select class="select w-48" name="protocol" bind:value={protocol}>
        {#if !gateway}<option value="">as heard, or UDP</option>{/if}
        {#each Object.entries(PROTOCOLS) as [value, words] (value)}<option {value}>{words}</option>{/each}
      </select>
    </Field>
    {#if protocol === "udp" || protocol === ""}
      <Field label="Allowed source (address or network)">
        <input class="input w-48 font-mono" name="udp_source" bind:value={source} placeholder="anywhere" autocomplete="off" />
      </Field>
    {/if}
    <Field label="Latitude, °">
      <input class="input w-32" type="number" name="latitude" step="any" min="-90" max="90" bind:value={latitude} />
    </Field>
    <Field label="Longitude, °">
      <input class="input w-32" type="number" name="longitude" step="any" min="-180" max="180" bind:value={longitude} />
    </Field>
    <Field label="Altitude, m">
      <input class="input w-28" type="number" name="altitude" step="any" bind:value={altitude} />
    </Field>
    <Field label="Antenna gain, dBi">
      <input class="input w-28" type="number" name="gain" step="any" placeholder="default 2.15" bind:value={gain} />
    </Field>
    <Field label="Cable loss, dB">
      <input class="input w-28" type="number" name="loss" step="any" min="0" max="30" placeholder="default 0" bind:value={loss} />
    </Field>
    <Field label="Description" class="w-full max-w-xl">
      <input class="input w-full" name="description" bind:value={description} maxlength="500" placeholder="access, contact" autocomplete="off" />
    </Field>
    <label class="flex h-10 items-center gap-2">
      <input class="checkbox checkbox-sm" type="checkbox" name="beacons" bind:checked={beacons} />
      <span>sends beacons</span>
    </label>
    <label class="flex h-10 items-center gap-2">
      <input class="checkbox checkbox-sm" type="checkbox" name="open" bind:checked={open} />
      <span>open to other estates</span>
    </label>
    <button class="btn" type="button" onclick={() => (mapped = !mapped)} aria-expanded={mapped}>{mapped ? "Close the map" : "Place on the map"}</button>
    {#if gateway?.report?.latitude_deg != null}
      <button class="btn" type="button" onclick={placeByGps}>Use its GPS position</button>
    {/if}
  </div>
  <div class="mt-4 flex flex-wrap items-center gap-3">
    <button class="btn btn-primary">{gateway ? "Save" : stranger ? "Adopt" : "Register"}</button>
    {#if saved && gateway}<span class="self-center text-sm text-success" role="status">Saved.</span>{/if}
    {#if cancel}<button class="btn btn-ghost" type="button" onclick={cancel}>Cancel</button>{/if}
  </div>
  {#if mapped}
    <div class="mt-3 max-w-3xl">
      <PlaceMap
        points={here}
        pick={(lat, lon) => {
          [latitude, longitude, saved] = [lat, lon, false];
        }}
      />
      <p class="mt-1 text-sm text-base-content/75">Click its place; drag and scroll to move the map.</p>
    </div>
  {/if}
  {#if act.problem}<div class="mt-3"><Notice text={act.problem} /></div>{/if}
  {#if offers.length > 0}
    <div class="mt-2 flex flex-wrap items-center gap-2" data-offers>
      <span class="text-sm text-base-content/75">Use</span>
      {#each offers as offer (offer)}
        <button class="btn btn-sm font-mono" type="button" onclick={() => take(offer)}>{grouped(offer)}</button>
      {/each}
    </div>
  {/if}
</Card>
