<!-- Changes the chosen devices alike; what it comes to is shown before. -->
<script lang="ts">
  import { untrack } from "svelte";
  import { api, call, type ChangeEffect, type DeviceChange } from "#lib/api.ts";
  import { estateOptions } from "#lib/estateOptions.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import Effect from "#lib/components/common/Effect.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import { Action } from "#lib/resource.svelte.ts";

  /** Takes a model or profile away. */
  const NONE = "(none)";
  let { chosen, done }: { chosen: string[]; done: () => void } = $props();

  let form = $state({ fleet: "", model: "", profile: "", firmware: "", hardware: "", add: "", remove: "", disabled: "" });
  let outcome = $state<ChangeEffect | null>(null);
  const act = new Action();

  const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);
  const change = $derived.by(() => {
    const { fleet, model, profile, firmware, hardware, add, remove, disabled } = form;
    const given: DeviceChange = { add_tags: words(add), remove_tags: words(remove) };
    if (fleet) given.fleet = fleet;
    if (model) given.model = model === NONE ? "" : model;
    if (profile) given.profile = profile === NONE ? "" : profile;
    if (firmware) given.firmware = firmware;
    if (hardware) given.hardware = hardware;
    if (disabled) given.disabled = disabled === "true";
    return given;
  });

  async function go(preview: boolean) {
    const body = { devices: chosen, change, preview };
    const data = await act.run(() => call(api.POST("/api/v1/estates/{estate}/devices/change", { params: { path: { estate: session.estate } }, body })));
    outcome = data ?? null;
    if (data?.done) done();
  }

  // What was shown of other devices or another change does not hold any more.
  $effect(() => {
    void chosen.length;
    void change;
    untrack(() => {
      if (!outcome?.done) outcome = null;
    });
  });
</script>

{#snippet select(label: string, name: "fleet" | "model" | "profile", among: { slug: string }[], none: boolean)}
  <Field {label}>
    <select class="select select-sm w-40" name="bulk_{name}" bind:value={form[name]}>
      <option value="">as they are</option>
      {#if none}<option value={NONE}>none</option>{/if}
      {#each among as { slug } (slug)}<option value={slug}>{slug}</option>{/each}
    </select>
  </Field>
{/snippet}

{#snippet text(label: string, name: "add" | "remove" | "firmware" | "hardware")}
  <Field {label}>
    <input class="input input-sm w-32" name="bulk_{name}" bind:value={form[name]} autocomplete="off" />
  </Field>
{/snippet}

<Card
  tag="form"
  class="mb-4"
  onsubmit={(event) => {
    event.preventDefault();
    void go(false);
  }}
  aria-label="Change the chosen devices"
>
  <h2 class="mb-2">Change {chosen.length} {chosen.length === 1 ? "device" : "devices"}</h2>
  <div class="flex flex-wrap items-end gap-3">
    {@render select("Fleet", "fleet", estateOptions.fleets, false)}
    {@render select("Model", "model", estateOptions.models, true)}
    {@render select("Radio profile", "profile", estateOptions.profiles, true)}
    {@render text("Hardware", "hardware")}
    {@render text("Firmware", "firmware")}
    {@render text("Tags to add", "add")}
    {@render text("Tags to remove", "remove")}
    <Field label="Service">
      <select class="select select-sm w-32" name="bulk_disabled" bind:value={form.disabled}>
        <option value="">as they are</option>
        <option value="true">disable</option>
        <option value="false">enable</option>
      </select>
    </Field>
    <button class="btn btn-sm" type="button" onclick={() => go(true)}>Preview</button>
    <button class="btn btn-primary btn-sm" disabled={!outcome || outcome.done || outcome.devices.length === 0}>Apply</button>
  </div>
  {#if act.problem}<div class="mt-3"><Notice text={act.problem} /></div>{/if}
  {#if outcome}<Effect effect={outcome} />{/if}
</Card>
