<!-- A device's own radio and MAC, over those of its profile, its model and its region; and the counters of its session. -->
<script lang="ts">
  import { api, call, type ChangeEffect, type DeviceDetail, type RadioSettings } from "#lib/api.ts";
  import { session } from "#lib/session.svelte.ts";
  import Effect from "#lib/components/common/Effect.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import RadioFields from "#lib/components/device/RadioFields.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import { Action } from "#lib/resource.svelte.ts";

  let { device, done }: { device: DeviceDetail; done: () => void } = $props();

  let radio = $state<Partial<RadioSettings>>({});
  /** What applies where the device has no setting of its own. */
  const inherited = $derived(
    Object.fromEntries(Object.entries(device.whole_radio).filter(([name]) => device.radio[name as keyof RadioSettings] == null)) as Partial<RadioSettings>,
  );
  let up = $state<number | null>(null);
  let down = $state<number | null>(null);
  let outcome = $state<ChangeEffect | null>(null);
  const act = new Action();
  let counted = $state(false);

  // News of a device must not undo what is being typed.
  let filled = "";
  $effect(() => {
    if (filled === device.dev_eui) return;
    filled = device.dev_eui;
    radio = { ...device.radio };
  });

  async function go(preview: boolean) {
    const given = Object.fromEntries(Object.entries(radio).filter(([, value]) => value != null && value !== "")) as RadioSettings;
    const body = { devices: [device.dev_eui], change: { radio: given }, preview };
    const data = await act.run(() => call(api.POST("/api/v1/estates/{estate}/devices/change", { params: { path: { estate: session.estate } }, body })));
    outcome = data ?? null;
    if (data?.done) done();
  }

  async function count(event: SubmitEvent) {
    event.preventDefault();
    const params = { path: { estate: session.estate, eui: device.dev_eui } };
    const body = { last_counter_up: up, next_counter_down: down };
    const data = await act.run(() => call(api.PATCH("/api/v1/estates/{estate}/devices/{eui}/counters", { params, body })));
    counted = Boolean(data);
    if (data) done();
  }
</script>

<details class="rounded-box border border-base-300 p-4" data-radio>
  <summary class="cursor-pointer font-semibold">Radio settings and counters</summary>
  <p class="my-2 text-sm text-base-content/75">
    What is empty follows {device.profile ? `the profile ${device.profile}` : device.model ? "its model" : "the region"}. What the device must be told is sent
    with its next downlinks.
  </p>
  <form
    onsubmit={(event) => {
      event.preventDefault();
      void go(false);
    }}
    oninput={() => (outcome = null)}
  >
    <RadioFields bind:radio {inherited} />
    <div class="mt-3 flex gap-2">
      <button class="btn btn-sm" type="button" onclick={() => go(true)}>Preview</button>
      <button class="btn btn-primary btn-sm">Save radio</button>
    </div>
  </form>
  {#if outcome}<Effect effect={outcome} />{/if}
  {#if device.session}
    <form class="mt-4 flex flex-wrap items-end gap-3 border-t border-base-300 pt-3" onsubmit={count} oninput={() => (counted = false)}>
      <Field label="Last FCntUp">
        <input
          class="input input-sm w-36"
          type="number"
          name="last_counter_up"
          min="0"
          max="4294967295"
          bind:value={up}
          placeholder={String(device.session.last_counter_up ?? "none yet")}
        />
      </Field>
      <Field label="Next FCntDown">
        <input
          class="input input-sm w-36"
          type="number"
          name="next_counter_down"
          min="0"
          max="4294967295"
          bind:value={down}
          placeholder={String(device.session.next_counter_down)}
        />
      </Field>
      <button class="btn btn-sm" disabled={up == null && down == null}>Set counters</button>
      {#if counted}<span class="text-sm text-success" role="status">Set.</span>{/if}
    </form>
  {/if}
  {#if act.problem}<div class="mt-3"><Notice text={act.problem} /></div>{/if}
</details>
