<script lang="ts">
  import { api, say, type ChangeEffect, type RadioSettings, type StoredProfile } from "#lib/api.ts";
  import Notice from "#lib/parts/Notice.svelte";
  import RegionSelect from "#lib/parts/RegionSelect.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { ago } from "#lib/words.ts";
  import { live } from "#lib/live.svelte.ts";

  /** Settings that are a number, with what they are called and allowed. */
  const NUMBERS = [
    ["rx_delay_s", "RX1 delay, s", 1, 15],
    ["rx1_data_rate_offset", "RX1 data rate offset", 0, 7],
    ["rx2_data_rate", "RX2 data rate", 0, 15],
    ["rx2_frequency_hz", "RX2 frequency, Hz", 0, 4_000_000_000],
    ["max_duty_cycle", "Duty cycle 1/2ⁿ, n", 0, 15],
    ["status_interval_s", "Asked for battery every, s", 0, 31_536_000],
    ["ack_timeout_s", "Acknowledged within, s", 1, 3600],
    ["attempts", "Transmissions of a downlink", 1, 50],
    ["uplink_interval_s", "Expected to send every, s", 1, 31_536_000],
  ] as const;
  const VERSIONS = ["1.0.0", "1.0.1", "1.0.2", "1.0.3", "1.0.4", "1.1"];

  let profiles = $state<StoredProfile[] | null>(null);
  let slug = $state("");
  let name = $state("");
  let region = $state("EU868");
  let radio = $state<Partial<RadioSettings>>({});
  let known = $state(false);
  let outcome = $state<ChangeEffect | null>(null);
  let problem = $state("");

  async function load() {
    const { data, error } = await api.GET("/api/v1/estates/{estate}/profiles", { params: { path: { estate: session.estate }, query: { limit: 500 } } });
    problem = data ? "" : say(error as never);
    profiles = data?.items ?? profiles;
  }

  function edit(profile: StoredProfile | null) {
    [slug, name, region, known] = [profile?.slug ?? "", profile?.name ?? "", profile?.region ?? "EU868", profile !== null];
    radio = { ...profile?.radio };
    [outcome, problem] = [null, ""];
  }

  async function put(preview: boolean) {
    // What is empty follows the model and the region.
    const given = Object.fromEntries(Object.entries(radio).filter(([, value]) => value != null && value !== "")) as RadioSettings;
    const { data, error } = await api.PUT("/api/v1/estates/{estate}/profiles/{profile}", {
      params: { path: { estate: session.estate, profile: slug }, query: { preview } },
      body: { name: name || slug, region, radio: given },
    });
    problem = data ? "" : say(error);
    outcome = data ?? null;
    if (data?.done) {
      known = true;
      await load();
    }
  }

  async function remove() {
    const { error } = await api.DELETE("/api/v1/estates/{estate}/profiles/{profile}", { params: { path: { estate: session.estate, profile: slug } } });
    problem = error ? say(error) : "";
    if (error) return;
    edit(null);
    await load();
  }

  $effect(() => {
    void load();
  });
</script>

<svelte:head><title>Radio profiles · Keen Heron</title></svelte:head>

<p class="mb-1 text-sm"><a class="link link-hover" href="/devices">Devices</a> ›</p>
<h1 class="mb-3">Radio profiles</h1>
{#if profiles && profiles.length > 0}
  <div class="mb-4 overflow-x-auto">
    <table class="table">
      <thead><tr><th>Short name</th><th>Name</th><th>Region</th><th class="text-right">Devices</th><th>Changed</th></tr></thead>
      <tbody>
        {#each profiles as profile (profile.slug)}
          <tr data-profile={profile.slug}>
            <td><button class="link font-semibold link-hover" onclick={() => edit(profile)}>{profile.slug}</button></td>
            <td>{profile.name}</td>
            <td>{profile.region}</td>
            <td class="text-right tabular-nums"><a class="link link-hover" href="/devices?profile={profile.slug}">{profile.devices}</a></td>
            <td>{ago(profile.changed_at, live.now)}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{:else if profiles}
  <p class="mb-4 max-w-prose">None yet. A profile holds what many devices have in common: where they are used, when they listen, how they are answered. A name and a region suffice; all else follows the device's model and the region.</p>
{/if}

<form class="rounded-box border border-base-300 p-4" onsubmit={(event) => { event.preventDefault(); void put(false); }} oninput={() => (outcome = null)} aria-label="A radio profile">
  <h2 class="mb-2">{known ? `Change ${slug}` : "Make one"}</h2>
  <div class="flex flex-wrap items-end gap-3">
    {#if !known}
      <label>
        <span class="block text-sm text-base-content/75">Short name</span>
        <input class="input input-sm w-44 font-mono" name="slug" bind:value={slug} required pattern="[a-z0-9][a-z0-9\-]*" title="lower-case letters, digits and dashes" maxlength="60" autocomplete="off" />
      </label>
    {/if}
    <label>
      <span class="block text-sm text-base-content/75">Name</span>
      <input class="input input-sm w-44" name="name" bind:value={name} maxlength="80" placeholder={slug} autocomplete="off" />
    </label>
    <label>
      <span class="block text-sm text-base-content/75">Region</span>
      <RegionSelect value={region} choose={(chosen) => (region = chosen)} width="select-sm w-32" />
    </label>
    <label>
      <span class="block text-sm text-base-content/75">LoRaWAN</span>
      <select class="select select-sm w-28" name="mac_version" value={radio.mac_version ?? ""} onchange={(e) => (radio.mac_version = e.currentTarget.value || undefined)}>
        <option value="">usual</option>
        {#each VERSIONS as version (version)}<option value={version}>{version}</option>{/each}
      </select>
    </label>
    <label>
      <span class="block text-sm text-base-content/75">Class</span>
      <select class="select select-sm w-24" name="class" value={radio.class ?? ""} onchange={(e) => (radio.class = (e.currentTarget.value || undefined) as RadioSettings["class"])}>
        <option value="">usual</option>
        {#each ["A", "B", "C"] as letter (letter)}<option value={letter}>{letter}</option>{/each}
      </select>
    </label>
    {#each NUMBERS as [field, words, min, max] (field)}
      <label>
        <span class="block text-sm text-base-content/75">{words}</span>
        <input class="input input-sm w-40" type="number" name={field} {min} {max} bind:value={radio[field]} placeholder="usual" />
      </label>
    {/each}
    <label>
      <span class="block text-sm text-base-content/75">Channels</span>
      <input class="input input-sm w-32 font-mono" name="channels" bind:value={radio.channels} placeholder="usual" autocomplete="off" />
    </label>
    <label>
      <span class="block text-sm text-base-content/75">A counter that starts over</span>
      <select class="select select-sm w-32" name="counter_restart" value={radio.counter_restart == null ? "" : String(radio.counter_restart)} onchange={(e) => (radio.counter_restart = e.currentTarget.value ? e.currentTarget.value === "true" : undefined)}>
        <option value="">usual</option>
        <option value="false">is refused</option>
        <option value="true">is accepted</option>
      </select>
    </label>
    {#if radio.rates || radio.ping_slot}<p class="text-sm text-base-content/75">Data rate and ping slots stay as they are; the client changes them.</p>{/if}
  </div>
  <div class="mt-3 flex flex-wrap gap-2">
    <button class="btn btn-sm" type="button" disabled={!slug} onclick={() => put(true)}>What it would change</button>
    <button class="btn btn-primary btn-sm">Save</button>
    {#if known}
      <button class="btn btn-sm" type="button" onclick={remove}>Remove</button>
      <button class="btn btn-ghost btn-sm" type="button" onclick={() => edit(null)}>Make another</button>
    {/if}
  </div>
  {#if problem}<div class="mt-3"><Notice text={problem} /></div>{/if}
  {#if outcome}
    <div class="mt-3 rounded-field bg-base-200 p-3" data-effect role="status">
      <p>
        {outcome.done ? "Saved." : "Nothing is changed yet."}
        {outcome.devices.length === 0
          ? "It touches no device."
          : `${outcome.devices.length} ${outcome.done ? "became" : "would become"} different, ${outcome.untouched} stay as they are.`}
      </p>
      {#each outcome.devices.slice(0, 20) as device (device.dev_eui)}
        <p class="mt-2"><a class="link font-semibold link-hover" href="/devices/{device.dev_eui}">{device.name}</a></p>
        <ul class="ml-4 list-disc text-sm">
          {#each device.changes as change (change.setting)}
            <li>{change.setting}: {change.before} → {change.after}{change.sent ? `; it is sent ${change.sent}` : ""}</li>
          {/each}
        </ul>
      {/each}
      {#if outcome.devices.length > 20}<p class="mt-2 text-sm">and {outcome.devices.length - 20} more</p>{/if}
    </div>
  {/if}
</form>
