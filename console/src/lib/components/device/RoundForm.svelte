<!-- A downlink for each of many devices; how many and how long it takes is said before it begins. -->
<script lang="ts">
  import { goto } from "$app/navigation";
  import { api, call, type NewRound } from "#lib/api.ts";
  import { DownlinkDraft } from "#lib/downlink.svelte.ts";
  import { useEstateOptions } from "#lib/estateOptions.svelte.ts";
  import { duration } from "#lib/format.ts";
  import { Action, resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import Card from "#lib/components/common/Card.svelte";
  import DownlinkFields from "#lib/components/device/DownlinkFields.svelte";
  import DownlinkOptions from "#lib/components/device/DownlinkOptions.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import Notice from "#lib/components/common/Notice.svelte";

  /** `devices` are chosen ones; without them the form asks for a fleet, a model or a tag. */
  let { devices = [], fleet = "" }: { devices?: string[]; fleet?: string } = $props();

  const SHOWN = 10;
  const estateOptions = useEstateOptions();
  // svelte-ignore state_referenced_locally
  let who = $state({ fleet, model: "", tag: "" });
  let overS = $state<number | null>(null);
  const path = $derived({ estate: session.estate });

  // A model says which commands its encoder knows.
  const known = resource(async () => {
    if (!who.model) return [];
    const model = await call(api.GET("/api/v1/estates/{estate}/models/{model}", { params: { path: { ...path, model: who.model } } }));
    return model.commands ?? [];
  });
  const draft = new DownlinkDraft(() => known.value ?? []);
  const meant = $derived(devices.length > 0 || Object.values(who).some(Boolean));

  /** The round as the service takes it; null if something is missing. */
  const round = $derived.by((): NewRound | null => {
    const downlink = draft.item();
    if (!meant || !downlink || draft.content === "") return null;
    const among = devices.length > 0 ? { devices } : Object.fromEntries(Object.entries(who).filter(([, value]) => value));
    return { ...among, downlink, over_s: overS };
  });
  const checked = resource(async () => round && (await call(api.POST("/api/v1/estates/{estate}/rounds/check", { params: { path }, body: round }))), {
    typing: { key: () => round, pauseMs: 300 },
  });
  const preview = $derived(round && !checked.busy && !checked.problem ? checked.value : null);
  const act = new Action();
  const problem = $derived(act.problem || draft.problem() || (round ? checked.problem : ""));

  async function begin(event: SubmitEvent) {
    event.preventDefault();
    if (!round || !preview) return;
    const body = round;
    const made = await act.run(() => call(api.POST("/api/v1/estates/{estate}/rounds", { params: { path }, body })));
    if (made) await goto(`/devices/rounds/${made.id}`);
  }
</script>

<Card tag="form" class="mb-4" onsubmit={begin} aria-label="Send to many devices" data-round-form>
  <h2 class="mb-2">{devices.length > 0 ? `Send to ${devices.length} chosen ${devices.length === 1 ? "device" : "devices"}` : "Send to many devices"}</h2>
  <div class="grid gap-2">
    {#if devices.length === 0}
      <div class="flex flex-wrap items-end gap-3">
        {#each [["fleet", "Fleet", estateOptions.fleets], ["model", "Model", estateOptions.models]] as const as [key, label, among] (key)}
          <Field {label}>
            <select class="select select-sm w-44" name={key} bind:value={who[key]}>
              <option value="">any</option>
              {#each among as { slug } (slug)}<option value={slug}>{slug}</option>{/each}
            </select>
          </Field>
        {/each}
        <Field label="Tag"><input class="input input-sm w-36" name="tag" bind:value={who.tag} placeholder="any" autocomplete="off" /></Field>
        {#if !meant}<p class="pb-1 text-sm text-base-content/75">Choose at least one of them.</p>{/if}
      </div>
    {/if}
    <DownlinkFields {draft} />
    <div class="flex flex-wrap items-center gap-x-4 gap-y-2">
      <DownlinkOptions {draft} />
      <label class="flex items-center gap-2">
        <span class="text-sm text-base-content/75">Spread over</span>
        <select class="select select-sm w-52" name="over" bind:value={overS}>
          <option value={null}>what the airtime allows</option>
          <option value={0}>no time: all at once</option>
          <option value={600}>10 min</option>
          <option value={3600}>1 h</option>
          <option value={21600}>6 h</option>
          <option value={86400}>1 day</option>
        </select>
      </label>
      <button class="btn btn-sm btn-primary ml-auto" disabled={!preview || preview.devices === 0 || act.busy}>
        {preview ? `Send to ${preview.devices} ${preview.devices === 1 ? "device" : "devices"}` : "Send"}
      </button>
    </div>
    {#if preview}
      <div class="rounded-field bg-base-200 px-3 py-1.5 text-sm" role="status" data-round-check>
        <p>
          {preview.devices}
          {preview.devices === 1 ? "device is sent it" : `devices are sent it, one after another over ${duration(preview.over_s)}`}; each downlink takes up to {preview.airtime_ms.toFixed(
            0,
          )} ms on air.
        </p>
        {#if preview.refused.length > 0}
          <p class="mt-1 font-semibold">{preview.refused.length} cannot be sent it:</p>
          <ul class="ml-4 list-disc">
            {#each preview.refused.slice(0, SHOWN) as one (one.dev_eui)}
              <li><a class="link link-hover" href="/devices/{one.dev_eui}">{one.name}</a>: {one.note}</li>
            {/each}
          </ul>
          {#if preview.refused.length > SHOWN}<p>and {preview.refused.length - SHOWN} more</p>{/if}
        {/if}
      </div>
    {/if}
    <Notice text={problem} />
  </div>
</Card>
