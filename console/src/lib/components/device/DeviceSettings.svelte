<!-- What is told of a device, and what it stands on; its session, and its end. -->
<script lang="ts">
  import { goto } from "$app/navigation";
  import { api, call, type DeviceDetail, type DeviceChange } from "#lib/api.ts";
  import { useEstateOptions } from "#lib/estateOptions.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import Confirm from "#lib/components/common/Confirm.svelte";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import { Action } from "#lib/resource.svelte.ts";

  const estateOptions = useEstateOptions();

  let { device, done }: { device: DeviceDetail; done: () => void } = $props();

  let form = $state({ name: "", fleet: "", model: "", profile: "", description: "", hardware: "", firmware: "", tags: "" });
  const act = new Action();
  let saved = $state(false);
  const path = $derived({ estate: session.estate, eui: device.dev_eui });

  // News of a device must not undo what is being typed: the fields follow only when it is another one.
  let filled = "";
  /** What the form was filled from: a change by somebody else meanwhile is not undone. */
  let revision = "";
  $effect(() => {
    if (filled === device.dev_eui) return;
    filled = device.dev_eui;
    revision = device.revision ?? "";
    const { name, fleet, model, profile, description, hardware, firmware, tags } = device;
    form = { name, fleet, model: model ?? "", profile: profile ?? "", description, hardware: hardware ?? "", firmware: firmware ?? "", tags: tags.join(" ") };
  });

  async function change(body: DeviceChange) {
    const headers = { "If-Match": revision };
    const data = await act.run(() => call(api.PATCH("/api/v1/estates/{estate}/devices/{eui}", { params: { path }, body, headers })));
    saved = Boolean(data);
    if (!data) return;
    revision = data.revision ?? "";
    done();
  }

  function save(event: SubmitEvent) {
    event.preventDefault();
    void change({ ...form, tags: form.tags.split(/[\s,]+/).filter(Boolean) });
  }

  const forget = () =>
    act.run(async () => {
      await call(api.DELETE("/api/v1/estates/{estate}/devices/{eui}/session", { params: { path } }));
      done();
    });

  const remove = () =>
    act.run(async () => {
      await call(api.DELETE("/api/v1/estates/{estate}/devices/{eui}", { params: { path } }));
      await goto("/devices");
    });
</script>

<Card title="Registered as" data-settings>
  <form class="flex flex-wrap items-end gap-3" onsubmit={save} oninput={() => (saved = false)}>
    <Field label="Name">
      <input class="input input-sm w-40" name="name" bind:value={form.name} required maxlength="80" autocomplete="off" />
    </Field>
    <Field label="Fleet">
      <select class="select select-sm w-40" name="fleet" bind:value={form.fleet}>
        {#each estateOptions.fleets as { slug } (slug)}<option value={slug}>{slug}</option>{/each}
      </select>
    </Field>
    <Field label="Model">
      <select class="select select-sm w-40" name="model" bind:value={form.model}>
        <option value="">none</option>
        {#each estateOptions.models as { slug } (slug)}<option value={slug}>{slug}</option>{/each}
      </select>
    </Field>
    <Field label="Radio profile">
      <select class="select select-sm w-40" name="profile" bind:value={form.profile}>
        <option value="">none</option>
        {#each estateOptions.profiles as { slug } (slug)}<option value={slug}>{slug}</option>{/each}
      </select>
    </Field>
    <Field label="Hardware">
      <input class="input input-sm w-24" name="hardware" bind:value={form.hardware} maxlength="40" autocomplete="off" />
    </Field>
    <Field label="Firmware">
      <input class="input input-sm w-24" name="firmware" bind:value={form.firmware} maxlength="40" autocomplete="off" />
    </Field>
    <Field label="Tags">
      <input class="input input-sm w-40" name="tags" bind:value={form.tags} autocomplete="off" />
    </Field>
    <Field label="Description" class="w-full">
      <input class="input input-sm w-full" name="description" bind:value={form.description} maxlength="500" autocomplete="off" />
    </Field>
    <button class="btn btn-primary btn-sm">Save</button>
    {#if saved}<span class="text-sm text-success" role="status">Saved.</span>{/if}
  </form>
  <div class="mt-3 flex flex-wrap items-center gap-2 border-t border-base-300 pt-3">
    <button class="btn btn-sm" type="button" onclick={() => change({ disabled: !device.disabled })}>{device.disabled ? "Enable" : "Disable"}</button>
    {#if device.session || device.next_session}
      <Confirm
        label="End session"
        what={device.personalized
          ? `The session of ${device.name} will start again with its counters at zero: the device has to start again too.`
          : `The session of ${device.name} will end: it is not heard until it has joined again.`}
        run={forget}
      />
    {/if}
    <Confirm
      label="Remove"
      what="{device.name} will be removed with its keys, its session and what waits in its outbox. Its messages stay in the history."
      sure="Remove {device.name}"
      run={remove}
    />
  </div>
  {#if act.problem}<div class="mt-3"><Notice text={act.problem} /></div>{/if}
</Card>
