<script lang="ts">
  import { api, call, type ChangeEffect, type RadioSettings, type StoredProfile } from "#lib/api.ts";
  import Effect from "#lib/components/common/Effect.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import RadioFields from "#lib/components/device/RadioFields.svelte";
  import RegionSelect from "#lib/components/common/RegionSelect.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { ago } from "#lib/format.ts";
  import { live } from "#lib/live.svelte.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import { Action, resource } from "#lib/resource.svelte.ts";
  import DataTable from "#lib/components/common/DataTable.svelte";

  const held = resource(async () => {
    const params = { path: { estate: session.estate }, query: { limit: 500 } };
    return (await call(api.GET("/api/v1/estates/{estate}/profiles", { params }))).items;
  });
  const profiles = $derived(held.value);
  const act = new Action();
  const problem = $derived(act.problem || held.problem);
  let slug = $state("");
  let name = $state("");
  let region = $state("EU868");
  let radio = $state<Partial<RadioSettings>>({});
  let known = $state(false);
  /** What the form was filled from: a change by somebody else meanwhile is not undone. */
  let revision = "";
  let outcome = $state<ChangeEffect | null>(null);

  function edit(profile: StoredProfile | null) {
    [slug, name, region, known] = [profile?.slug ?? "", profile?.name ?? "", profile?.region ?? "EU868", profile !== null];
    radio = { ...profile?.radio };
    revision = profile?.revision ?? "";
    [outcome, act.problem] = [null, ""];
  }

  async function put(preview: boolean) {
    // What is empty follows the model and the region.
    const given = Object.fromEntries(Object.entries(radio).filter(([, value]) => value != null && value !== "")) as RadioSettings;
    const data = await act.run(() =>
      call(
        api.PUT("/api/v1/estates/{estate}/profiles/{profile}", {
          params: { path: { estate: session.estate, profile: slug }, query: { preview } },
          body: { name: name || slug, region, radio: given },
          headers: revision && !preview ? { "If-Match": revision } : {},
        }),
      ),
    );
    outcome = data ?? null;
    if (data?.done) {
      known = true;
      await held.load();
      revision = profiles?.find((one) => one.slug === slug)?.revision ?? "";
    }
  }

  const remove = () =>
    act.run(async () => {
      await call(api.DELETE("/api/v1/estates/{estate}/profiles/{profile}", { params: { path: { estate: session.estate, profile: slug } } }));
      edit(null);
      await held.load();
    });
</script>

<svelte:head><title>Radio profiles · Keen Heron</title></svelte:head>

<p class="mb-1 text-sm"><a class="link link-hover" href="/devices">Devices</a> ›</p>
<h1 class="mb-3">Radio profiles</h1>
{#if profiles && profiles.length > 0}
  <div class="mb-4">
    <DataTable class="">
      {#snippet head()}<th>Short name</th><th>Name</th><th>Region</th><th class="text-right">Devices</th><th>Changed</th>{/snippet}
      {#each profiles as profile (profile.slug)}
        <tr data-profile={profile.slug}>
          <td><button class="link font-semibold link-hover" onclick={() => edit(profile)}>{profile.slug}</button></td>
          <td>{profile.name}</td>
          <td>{profile.region}</td>
          <td class="text-right tabular-nums"><a class="link link-hover" href="/devices?profile={profile.slug}">{profile.devices}</a></td>
          <td>{ago(profile.changed_at, live.now)}</td>
        </tr>
      {/each}
    </DataTable>
  </div>
{:else if profiles}
  <p class="mb-4 max-w-prose">
    No profiles yet. A profile holds radio settings that many devices share. Name and region are enough; the rest follows from model and region.
  </p>
{/if}

{#if session.may("devices")}
  <Card
    tag="form"
    onsubmit={(event) => {
      event.preventDefault();
      void put(false);
    }}
    oninput={() => (outcome = null)}
    aria-label="A radio profile"
  >
    <h2 class="mb-2">{known ? `Change ${slug}` : "Create a profile"}</h2>
    <div class="flex flex-wrap items-end gap-3">
      {#if !known}
        <Field label="Short name">
          <input
            class="input input-sm w-44 font-mono"
            name="slug"
            bind:value={slug}
            required
            pattern="[a-z0-9][a-z0-9\-]*"
            title="lower-case letters, digits and dashes"
            maxlength="60"
            autocomplete="off"
          />
        </Field>
      {/if}
      <Field label="Name">
        <input class="input input-sm w-44" name="name" bind:value={name} maxlength="80" placeholder={slug} autocomplete="off" />
      </Field>
      <Field label="Region">
        <RegionSelect value={region} choose={(chosen) => (region = chosen)} width="select-sm w-32" />
      </Field>
    </div>
    <div class="mt-3"><RadioFields bind:radio /></div>
    <div class="mt-3 flex flex-wrap gap-2">
      <button class="btn btn-sm" type="button" disabled={!slug} onclick={() => put(true)}>Preview</button>
      <button class="btn btn-primary btn-sm">Save</button>
      {#if known}
        <button class="btn btn-sm" type="button" onclick={remove}>Remove</button>
        <button class="btn btn-ghost btn-sm" type="button" onclick={() => edit(null)}>Create another</button>
      {/if}
    </div>
    {#if problem}<div class="mt-3"><Notice text={problem} /></div>{/if}
    {#if outcome}<Effect effect={outcome} />{/if}
  </Card>
{/if}
