<!-- What a fleet's devices share: names, limits, the default key, and how long their history is kept. -->
<script lang="ts">
  import { api, call, type Fleet, type FleetChange } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Confirm from "#lib/components/common/Confirm.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import { Action } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  let { fleet, done }: { fleet: Fleet; done: (slug: string) => void } = $props();

  type Kept = { values_days: number | null; summaries_days: number | null; messages_days: number | null };
  let form = $state({ name: "", slug: "", airtime: null as number | null, downlinks: null as number | null });
  let kept = $state<Kept>({ values_days: null, summaries_days: null, messages_days: null });
  let key = $state("");
  const act = new Action();
  let saved = $state("");

  // It follows another fleet, and not the news of this one: what is typed stays.
  let filled = "";
  $effect(() => {
    if (filled === fleet.slug) return;
    filled = fleet.slug;
    form = { name: fleet.name, slug: fleet.slug, airtime: fleet.airtime_a_day_s ?? null, downlinks: fleet.downlinks_a_day ?? null };
    const { values_days = null, summaries_days = null, messages_days = null } = fleet.retention ?? {};
    kept = { values_days, summaries_days, messages_days };
  });

  /** What would be removed: something is kept for a shorter time than until now. */
  const shorter = $derived.by(() => {
    const before = fleet.retention ?? {};
    const less = (now: number | null, was: number | null | undefined) => (now ?? Infinity) < (was ?? Infinity);
    return less(kept.values_days, before.values_days) || less(kept.summaries_days, before.summaries_days) || less(kept.messages_days, before.messages_days);
  });

  async function change(body: FleetChange, what: string) {
    saved = "";
    const path = { estate: session.estate, fleet: fleet.slug };
    const data = await act.run(() => call(api.PATCH("/api/v1/estates/{estate}/fleets/{fleet}", { params: { path }, body })));
    if (!data) return;
    saved = what;
    done(data.slug);
  }

  const save = (event: SubmitEvent) => {
    event.preventDefault();
    const { name, slug, airtime, downlinks } = form;
    void change({ name, slug, airtime_a_day_s: airtime, downlinks_a_day: downlinks }, "settings");
  };
  const keep = () => change({ retention: kept }, "retention");
  const setKey = async (event: SubmitEvent) => {
    event.preventDefault();
    await change({ app_key: key }, "key");
    key = "";
  };
</script>

<Card title="Settings" tag="form" onsubmit={save} oninput={() => (saved = "")} data-settings>
  <div class="flex flex-wrap items-end gap-3">
    <Field label="Name">
      <input class="input input-sm w-52" name="name" bind:value={form.name} required maxlength="80" autocomplete="off" />
    </Field>
    <Field label="Short name">
      <input
        class="input input-sm w-44 font-mono"
        name="slug"
        bind:value={form.slug}
        required
        pattern="[a-z0-9][a-z0-9\-]*"
        maxlength="60"
        autocomplete="off"
      />
    </Field>
    <Field label="Airtime a day, s">
      <input class="input input-sm w-32" name="airtime" type="number" min="0.1" step="any" placeholder="no limit" bind:value={form.airtime} />
    </Field>
    <Field label="Downlinks a day">
      <input class="input input-sm w-32" name="downlinks" type="number" min="0" step="1" placeholder="no limit" bind:value={form.downlinks} />
    </Field>
    <button class="btn btn-primary btn-sm">Save</button>
    {#if saved === "settings"}<span class="text-sm text-success" role="status">Saved.</span>{/if}
  </div>
  <p class="mt-2 text-sm text-base-content/75">
    Limits are for each device and any 24 hours, beside those of the law. Stored messages keep the short name they have.
  </p>
</Card>

<Card title="How long history is kept" data-retention>
  <div class="flex flex-wrap items-end gap-3">
    <Field label="Values, days">
      <input class="input input-sm w-28" name="values_days" type="number" min="1" step="1" placeholder="for ever" bind:value={kept.values_days} />
    </Field>
    <Field label="Summaries, days">
      <input class="input input-sm w-28" name="summaries_days" type="number" min="1" step="1" placeholder="for ever" bind:value={kept.summaries_days} />
    </Field>
    <Field label="Messages, days">
      <input class="input input-sm w-28" name="messages_days" type="number" min="1" step="1" placeholder="for ever" bind:value={kept.messages_days} />
    </Field>
    {#if shorter}
      <Confirm label="Save" class="btn btn-primary btn-sm" what="What is older will be gone within hours." sure="Keep less" run={keep} />
    {:else}
      <button class="btn btn-primary btn-sm" type="button" onclick={keep}>Save</button>
    {/if}
    {#if saved === "retention"}<span class="text-sm text-success" role="status">Saved.</span>{/if}
  </div>
</Card>

{#if session.may("keys")}
  <Card title="Default AppKey" tag="form" onsubmit={setKey} data-key>
    <p class="mb-2">
      {fleet.has_default_key
        ? "An AppKey is held, and not shown. Devices are registered with it by the word fleet in place of a key."
        : "None is held. With one, devices that ship alike can be registered by the word fleet in place of a key."}
    </p>
    <div class="flex flex-wrap items-end gap-3">
      <Field label="AppKey, 32 hex digits">
        <input class="input input-sm w-80 font-mono" name="app_key" type="password" bind:value={key} required autocomplete="off" />
      </Field>
      <button class="btn btn-primary btn-sm">{fleet.has_default_key ? "Replace" : "Set"}</button>
      {#if fleet.has_default_key}
        <Confirm
          label="Take away"
          what="Devices that are registered keep the key they have."
          sure="Take it away"
          run={() => change({ app_key: null }, "key")}
        />
      {/if}
      {#if saved === "key"}<span class="text-sm text-success" role="status">Saved.</span>{/if}
    </div>
  </Card>
{/if}
{#if act.problem}<Notice text={act.problem} />{/if}
