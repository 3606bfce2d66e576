<script lang="ts">
  import { api, say, type EstateOutline } from "#lib/api.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import PeopleTabs from "#lib/components/people/PeopleTabs.svelte";
  import ShownOnce from "#lib/components/common/ShownOnce.svelte";
  import { day } from "#lib/format.ts";

  let estates = $state<EstateOutline[]>([]);
  let problem = $state("");
  let slug = $state("");
  let name = $state("");
  let owner = $state("");
  let link = $state("");

  async function load() {
    const { data, error } = await api.GET("/api/v1/installation/estates");
    problem = data ? "" : say(error);
    estates = data ?? [];
  }

  $effect(() => void load());

  async function found(event: SubmitEvent) {
    event.preventDefault();
    const { data, error } = await api.POST("/api/v1/installation/estates", { body: { slug, name: name || null, owner } });
    if (data) {
      link = `${location.origin}${data.owner.path}`;
      [slug, name, owner] = ["", "", ""];
      await load();
    }
    problem = data ? "" : say(error);
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
<table class="table table-sm mb-5" data-estates>
  <thead><tr><th>Estate</th><th>Name</th><th>Owners</th><th>Since</th></tr></thead>
  <tbody>
    {#each estates as estate (estate.slug)}
      <tr
        ><td class="font-mono text-[0.9em]">{estate.slug}</td><td>{estate.name}</td><td>{estate.owners.join(", ") || "invited"}</td><td class="tabular-nums"
          >{day(estate.added_at)}</td
        ></tr
      >
    {/each}
  </tbody>
</table>
<form class="rounded-box border border-base-300 p-4" onsubmit={found} data-found>
  <h2 class="mb-2">Create an estate</h2>
  <div class="flex flex-wrap items-end gap-3">
    <label
      ><span class="block text-sm text-base-content/75">Short name</span><input
        class="input w-44 font-mono"
        name="slug"
        bind:value={slug}
        placeholder="saltholm"
        required
      /></label
    >
    <label><span class="block text-sm text-base-content/75">Name (empty: the same)</span><input class="input w-52" name="name" bind:value={name} /></label>
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
</form>
