<!-- Registers a device by hand: what is typed is read back, with what gives pause, before anything is written. -->
<script lang="ts">
  import { goto } from "$app/navigation";
  import { api, call, type DeviceStranger } from "#lib/api.ts";
  import { useEstateOptions } from "#lib/estateOptions.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { grouped } from "#lib/format.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import RegionSelect from "#lib/components/common/RegionSelect.svelte";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import { Action, resource } from "#lib/resource.svelte.ts";

  const estateOptions = useEstateOptions();

  /** How soon after the last key it is read back. */
  const PAUSE_MS = 350;

  let { done, adopted = null }: { done: () => void; adopted?: DeviceStranger | null } = $props();

  // The form starts empty for another stranger.
  // svelte-ignore state_referenced_locally
  let form = $state({
    label: "",
    dev_eui: adopted?.dev_eui ?? "",
    join_eui: adopted?.join_eui ?? "",
    app_key: "",
    nwk_key: "",
    name: "",
    fleet: "",
    model: "",
    profile: "",
    region: adopted?.region ?? "",
    tags: "",
    dev_addr: "",
    nwk_s_key: "",
    app_s_key: "",
  });
  let keys = $state<"entered" | "generate" | "fleet" | "session" | "session_entered">("entered");

  const fleet = $derived(estateOptions.fleets.find((f) => f.slug === form.fleet));
  /** A device with a fixed session does not join, and needs no JoinEUI. */
  const joins = $derived(keys !== "session" && keys !== "session_entered");
  const named = $derived(form.label.trim() !== "" || (form.dev_eui.trim() !== "" && (!joins || form.join_eui.trim() !== "")));
  const complete = $derived(named && form.fleet !== "" && given());

  /** Whether what the device is to be known by is there. */
  function given() {
    if (keys === "entered") return form.app_key.trim() !== "";
    return keys !== "session_entered" || [form.dev_addr, form.nwk_s_key, form.app_s_key].every((text) => text.trim() !== "");
  }

  function body() {
    const made = keys === "entered" ? form.app_key : keys;
    const made_up = { dev_addr: "generate", nwk_s_key: "generate", app_s_key: "generate" };
    const { dev_addr, nwk_s_key, app_s_key } = keys === "session" ? made_up : form;
    return {
      label: form.label || null,
      dev_eui: form.dev_eui,
      join_eui: form.join_eui,
      app_key: joins ? made : null,
      nwk_key: (keys === "entered" && form.nwk_key) || null,
      personal: joins ? null : { dev_addr, nwk_s_key, app_s_key },
      name: form.name,
      fleet: form.fleet,
      model: form.model || null,
      profile: form.profile || null,
      region: form.region || null,
      tags: form.tags.split(/[\s,]+/).filter(Boolean),
    };
  }

  const path = $derived({ estate: session.estate });
  // Each change is looked at once the typing pauses.
  const checked = resource(async () => (complete ? await call(api.POST("/api/v1/estates/{estate}/devices/check", { params: { path }, body: body() })) : null), {
    typing: { key: body, pauseMs: PAUSE_MS },
  });
  const readBack = $derived(complete && !checked.problem ? checked.value : null);
  const act = new Action();
  const photo = new Action();
  const problem = $derived(act.problem || photo.problem || (complete ? checked.problem : ""));

  async function readPhoto(file: File | undefined) {
    if (!file) return;
    // The picture goes as it is.
    const raw = { body: file as never, bodySerializer: (body: unknown) => body as never, headers: { "content-type": "application/octet-stream" } };
    const read = await photo.run(() => call(api.POST("/api/v1/estates/{estate}/labels/read", { params: { path }, ...raw })));
    if (read) [form.label, form.dev_eui, form.join_eui] = [read.code, "", ""];
  }

  async function register(event: SubmitEvent) {
    event.preventDefault();
    const made = await act.run(() => call(api.POST("/api/v1/estates/{estate}/devices", { params: { path }, body: body() })));
    if (!made) return;
    done();
    await goto(`/devices/${made.dev_eui}`);
  }
</script>

<Card tag="form" onsubmit={register} aria-label="Register a device">
  <h2 class="mb-2">{adopted ? "Adopt a device: EUIs and region are as heard" : "Register a device"}</h2>
  <div class="flex flex-wrap items-end gap-3">
    <Field label="Code on the label (LW:D0:…), pasted or scanned; or enter the EUIs below" class="w-full">
      <!-- A scanner ends what it types with Enter, which is not yet a wish to register. -->
      <input
        class="input w-full max-w-xl font-mono"
        name="label"
        bind:value={form.label}
        onkeydown={(e) => e.key === "Enter" && e.preventDefault()}
        autocomplete="off"
        spellcheck="false"
      />
    </Field>
    <Field label="Or a photo of the label">
      <input
        class="file-input w-64"
        type="file"
        name="photo"
        accept="image/jpeg,image/png,image/webp"
        onchange={(e) => readPhoto(e.currentTarget.files?.[0])}
      />
    </Field>
    {#if photo.busy}<span class="pb-2 text-sm text-base-content/75" role="status">Looking for its code…</span>{/if}
    <Field label="DevEUI, as on the label">
      <input class="input w-64 font-mono" name="dev_eui" bind:value={form.dev_eui} required={!form.label} autocomplete="off" spellcheck="false" />
    </Field>
    <Field label="JoinEUI (AppEUI)">
      <input class="input w-64 font-mono" name="join_eui" bind:value={form.join_eui} required={!form.label && joins} autocomplete="off" spellcheck="false" />
    </Field>
    <Field label="Fleet">
      <select class="select w-44" name="fleet" bind:value={form.fleet} required>
        <option value="" disabled>choose</option>
        {#each estateOptions.fleets as { slug } (slug)}<option value={slug}>{slug}</option>{/each}
      </select>
    </Field>
    <Field label="Keys">
      <select class="select w-56" name="keys" bind:value={keys}>
        <option value="entered">AppKey from the label</option>
        <option value="generate">Generate an AppKey</option>
        <option value="fleet" disabled={!fleet?.has_default_key}>AppKey of the fleet</option>
        <option value="session">ABP, generate a session</option>
        <option value="session_entered">ABP, enter a session</option>
      </select>
    </Field>
    {#if keys === "entered"}
      <Field label="AppKey">
        <input class="input w-96 max-w-full font-mono" name="app_key" type="password" bind:value={form.app_key} autocomplete="off" spellcheck="false" />
      </Field>
      <Field label="NwkKey, of 1.1 only">
        <input class="input w-64 font-mono" name="nwk_key" type="password" bind:value={form.nwk_key} autocomplete="off" spellcheck="false" />
      </Field>
    {/if}
    {#if keys === "session_entered"}
      <Field label="DevAddr">
        <input class="input w-32 font-mono" name="dev_addr" bind:value={form.dev_addr} autocomplete="off" spellcheck="false" />
      </Field>
      <Field label="NwkSKey">
        <input class="input w-96 max-w-full font-mono" name="nwk_s_key" type="password" bind:value={form.nwk_s_key} autocomplete="off" spellcheck="false" />
      </Field>
      <Field label="AppSKey">
        <input class="input w-96 max-w-full font-mono" name="app_s_key" type="password" bind:value={form.app_s_key} autocomplete="off" spellcheck="false" />
      </Field>
    {/if}
  </div>
  <h3 class="mt-4 mb-1 text-sm font-semibold text-base-content/75">Optional</h3>
  <div class="flex flex-wrap items-end gap-3">
    <Field label="Name">
      <input class="input w-44" name="name" bind:value={form.name} maxlength="80" placeholder="its DevEUI" autocomplete="off" />
    </Field>
    <Field label="Model">
      <select class="select w-44" name="model" bind:value={form.model}>
        <option value="">none</option>
        {#each estateOptions.models as { slug } (slug)}<option value={slug}>{slug}</option>{/each}
      </select>
    </Field>
    <Field label="Radio profile">
      <select class="select w-44" name="profile" bind:value={form.profile} onchange={() => (form.region = "")}>
        <option value="">none</option>
        {#each estateOptions.profiles as { slug } (slug)}<option value={slug}>{slug}</option>{/each}
      </select>
    </Field>
    {#if !form.profile}
      <Field label="Region">
        <RegionSelect value={form.region} choose={(chosen) => (form.region = chosen)} none="EU868" width="w-32" />
      </Field>
    {/if}
    <Field label="Tags">
      <input class="input w-44" name="tags" bind:value={form.tags} placeholder="pier north" autocomplete="off" />
    </Field>
  </div>
  <button class="btn btn-primary mt-4" disabled={!complete}>Register</button>
  {#if readBack}
    <div class="mt-3 rounded-field bg-base-200 p-3" data-read-back>
      <p>
        Read as DevEUI <span class="font-mono">{grouped(readBack.dev_eui)}</span>{#if readBack.join_eui}, JoinEUI <span class="font-mono"
            >{grouped(readBack.join_eui)}</span
          >{/if}:
        {readBack.name}, {readBack.model ? `model ${readBack.model}, ` : ""}{readBack.profile ? `profile ${readBack.profile}, ` : ""}{readBack.region}, LoRaWAN {readBack.mac_version},
        class {readBack.class}, {readBack.joins ? "joins (OTAA)" : "personalized (ABP)"}.
      </p>
      {#each readBack.warnings as warning (warning)}
        <p class="mt-1 border-l-4 border-warning pl-2"><b>Check:</b> {warning}</p>
      {/each}
    </div>
  {/if}
  {#if problem}<div class="mt-3"><Notice text={problem} /></div>{/if}
</Card>
