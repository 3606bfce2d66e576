<script lang="ts">
  import { api, call, every } from "#lib/api.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import PeopleTabs from "#lib/components/people/PeopleTabs.svelte";
  import ShownOnce from "#lib/components/common/ShownOnce.svelte";
  import { day } from "#lib/format.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import { Action, resource } from "#lib/resource.svelte.ts";
  import DataTable from "#lib/components/common/DataTable.svelte";

  const held = resource(() => every((query) => call(api.GET("/api/v1/installation/estates", { params: { query } }))));
  const estates = $derived(held.value ?? []);
  const act = new Action();
  const problem = $derived(act.problem || held.problem);
  let slug = $state("");
  let name = $state("");
  let owner = $state("");
  let link = $state("");

  async function found(event: SubmitEvent) {
    event.preventDefault();
    await act.run(async () => {
      const made = await call(api.POST("/api/v1/installation/estates", { body: { slug, name: name || null, owner } }));
      link = `${location.origin}${made.owner.path}`;
      [slug, name, owner] = ["", "", ""];
      await held.load();
    });
  }
</script>

<svelte:head><title>Installation · Keen Heron</title></svelte:head>

<h1 class="mb-2">People</h1>
<PeopleTabs />
<p class="mb-3 max-w-prose text-base-content/80">The estates of this installation and their owners. What is in an estate is visible to its own people only.</p>
<Notice text={problem} />
{#if link}
  <div class="my-3"><ShownOnce what="The invitation for its owner" text={link} hint="Send it to the new owner." close={() => (link = "")} /></div>
{/if}
<DataTable class="table-sm mb-5" data-estates>
  {#snippet head()}<th>Estate</th><th>Name</th><th>Owners</th><th>Since</th>{/snippet}
  {#each estates as estate (estate.slug)}
    <tr
      ><td class="font-mono text-[0.9em]">{estate.slug}</td><td>{estate.name}</td><td>{estate.owners.join(", ") || "invited"}</td><td class="tabular-nums"
        >{day(estate.added_at)}</td
      ></tr
    >
  {/each}
</DataTable>
<Card title="Create an estate" tag="form" onsubmit={found} data-found>
  <div class="flex flex-wrap items-end gap-3">
    <Field label="Short name"><input class="input w-44 font-mono" name="slug" bind:value={slug} placeholder="saltholm" required /></Field>
    <Field label="Name (empty: the same)"><input class="input w-52" name="name" bind:value={name} /></Field>
    <label class="min-w-52 flex-1"
      ><span class="block text-sm text-base-content/75">Invitation for (the owner)</span><input
        class="input w-full"
        name="owner"
        bind:value={owner}
        required
      /></label
    >
    <button class="btn btn-primary">Create estate</button>
  </div>
</Card>
