<script lang="ts">
  import { api, call, every } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import Empty from "#lib/components/common/Empty.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import { keptWords, limitWords } from "#lib/format.ts";
  import { Action, resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  const path = $derived({ estate: session.estate });
  const held = resource(() => every((query) => call(api.GET("/api/v1/estates/{estate}/fleets", { params: { path, query } }))));
  const act = new Action();
  let open = $state(false);
  let slug = $state("");
  let name = $state("");

  async function add(event: SubmitEvent) {
    event.preventDefault();
    const made = await act.run(() => call(api.POST("/api/v1/estates/{estate}/fleets", { params: { path }, body: { slug, name: name || slug } })));
    if (!made) return;
    [slug, name, open] = ["", "", false];
    await held.load();
  }
</script>

<svelte:head><title>Fleets · Keen Heron</title></svelte:head>

<p class="mb-1 text-sm"><a class="link link-hover" href="/devices">Devices</a> ›</p>
<div class="mb-3 flex flex-wrap items-center gap-3">
  <h1>Fleets</h1>
  {#if session.may("devices")}
    <button class="btn ml-auto btn-sm btn-primary" aria-expanded={open} onclick={() => (open = !open)}>Add fleet</button>
  {/if}
</div>
<Notice text={act.problem || held.problem} />
{#if open}
  <Card title="Add a fleet" tag="form" class="mb-4" onsubmit={add} data-add>
    <div class="flex flex-wrap items-end gap-3">
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
      <Field label="Name">
        <input class="input input-sm w-56" name="name" bind:value={name} maxlength="80" placeholder={slug} autocomplete="off" />
      </Field>
      <button class="btn btn-primary btn-sm">Add</button>
    </div>
  </Card>
{/if}
{#if held.value?.length === 0}
  <Empty title="No fleet here yet">
    <p class="my-2">A fleet holds devices with one purpose: they share limits, a default key and how long their history is kept.</p>
    <code class="block rounded-field bg-base-200 p-3 font-mono text-sm">heron fleet add tide-and-sluice</code>
  </Empty>
{:else if held.value}
  <DataTable class="">
    {#snippet head()}<th>Fleet</th><th class="text-right">Devices</th><th class="hidden sm:table-cell">Limits a day</th><th class="hidden md:table-cell"
        >Kept</th
      ><th class="hidden sm:table-cell">Default AppKey</th>{/snippet}
    {#each held.value as fleet (fleet.slug)}
      <tr data-fleet={fleet.slug}>
        <td>
          <a class="link font-semibold link-hover" href="/devices/fleets/{fleet.slug}">{fleet.name}</a>
          {#if fleet.name !== fleet.slug}<span class="ml-1 font-mono text-[0.85em] text-base-content/75">{fleet.slug}</span>{/if}
        </td>
        <td class="text-right tabular-nums"><a class="link link-hover" href="/devices?fleet={fleet.slug}">{fleet.devices}</a></td>
        <td class="hidden sm:table-cell">{limitWords(fleet)}</td>
        <td class="hidden md:table-cell">{keptWords(fleet.retention)}</td>
        <td class="hidden sm:table-cell">{fleet.has_default_key ? "held" : "none"}</td>
      </tr>
    {/each}
  </DataTable>
{:else if !held.problem}
  <Loading />
{/if}
