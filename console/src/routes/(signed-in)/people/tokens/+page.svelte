<script lang="ts">
  import { api, say, type AccessToken, type Right, type RightAbout, type Scope } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import PeopleTabs from "#lib/components/people/PeopleTabs.svelte";
  import ShownOnce from "#lib/components/common/ShownOnce.svelte";
  import { estateOptions } from "#lib/estateOptions.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { ago, day, scopeWords } from "#lib/format.ts";

  let tokens = $state<AccessToken[]>([]);
  let table = $state<RightAbout[]>([]);
  let problem = $state("");
  let secret = $state("");
  let sure = $state(0);

  let name = $state("");
  let rights = $state<Right[]>(["view"]);
  let reaches = $state<"estate" | "fleet" | "device">("estate");
  let fleet = $state("");
  let device = $state("");
  let days = $state<number | null>(90);

  const path = $derived({ estate: session.estate });
  // Nobody gives more than they have.
  const offered = $derived(table.filter((row) => row.for_tokens && session.may(row.right)));

  async function load() {
    const [found, roles] = await Promise.all([api.GET("/api/v1/estates/{estate}/tokens", { params: { path } }), api.GET("/api/v1/roles")]);
    problem = found.data ? "" : say(found.error);
    tokens = found.data ?? [];
    table = roles.data ?? [];
  }

  $effect(() => {
    void load();
    void estateOptions.load();
  });

  async function make(event: SubmitEvent) {
    event.preventDefault();
    const scope: Scope = reaches === "estate" ? "estate" : reaches === "fleet" ? { fleet } : { device: device.trim() };
    const { data, error } = await api.POST("/api/v1/estates/{estate}/tokens", { params: { path }, body: { name, rights, scope, days } });
    if (data) {
      secret = data.secret;
      name = "";
      await load();
    }
    problem = data ? "" : say(error);
  }

  async function revoke(id: number) {
    const { error } = await api.DELETE("/api/v1/estates/{estate}/tokens/{id}", { params: { path: { ...path, id: String(id) } } });
    sure = 0;
    await load();
    problem = error ? say(error) : "";
  }

  const ended = (token: AccessToken) => token.expires_at != null && Date.parse(token.expires_at) <= live.now;
</script>

<svelte:head><title>Access tokens · Keen Heron</title></svelte:head>

<h1 class="mb-2">People</h1>
<PeopleTabs />
<p class="mb-3 max-w-prose text-base-content/80">For programs. A token never has more rights than its maker. Only a hash of the secret is stored.</p>
<Notice text={problem} />
{#if secret}
  <div class="my-3">
    <ShownOnce
      what="The token's secret"
      text={secret}
      hint="Send it as “Authorization: Bearer …”, or give it to the client as HERON_TOKEN."
      close={() => (secret = "")}
    />
  </div>
{/if}

<form class="mb-5 rounded-box border border-base-300 p-4" onsubmit={make} data-make-token>
  <h2 class="mb-2">New token</h2>
  <div class="flex flex-wrap items-end gap-3">
    <label class="min-w-56 flex-1">
      <span class="block text-sm text-base-content/75">Purpose</span>
      <input class="input w-full" name="name" bind:value={name} placeholder="dashboard in the harbour office" required />
    </label>
    <label>
      <span class="block text-sm text-base-content/75">Scope</span>
      <select class="select w-44" name="reaches" bind:value={reaches}
        ><option value="estate">the whole estate</option><option value="fleet">one fleet</option><option value="device">one device</option></select
      >
    </label>
    {#if reaches === "fleet"}
      <label>
        <span class="block text-sm text-base-content/75">Fleet</span>
        <select class="select w-44" name="fleet" bind:value={fleet} required
          >{#each estateOptions.fleets as one (one.slug)}<option value={one.slug}>{one.name}</option>{/each}</select
        >
      </label>
    {:else if reaches === "device"}
      <label>
        <span class="block text-sm text-base-content/75">DevEUI</span>
        <input class="input w-48 font-mono" name="device" bind:value={device} required />
      </label>
    {/if}
    <label>
      <span class="block text-sm text-base-content/75">Days (empty: no expiry)</span>
      <input class="input w-32" type="number" name="days" min="1" max="3660" bind:value={days} />
    </label>
  </div>
  <fieldset class="mt-3">
    <legend class="text-sm text-base-content/75">Rights</legend>
    <div class="grid gap-x-6 sm:grid-cols-2">
      {#each offered as row (row.right)}
        <label class="flex items-baseline gap-2 py-0.5">
          <input class="checkbox checkbox-sm relative top-1" type="checkbox" name="right" value={row.right} bind:group={rights} />
          <span><span class="font-mono text-[0.9em]">{row.right}</span> <span class="text-sm text-base-content/75">{row.about}</span></span>
        </label>
      {/each}
    </div>
  </fieldset>
  <button class="btn btn-primary mt-3" disabled={rights.length === 0}>Create token</button>
</form>

<div class="overflow-x-auto">
  <table class="table table-sm" data-tokens>
    <thead><tr><th>Name</th><th>Allows</th><th>Scope</th><th class="hidden md:table-cell">Made by</th><th>Expires</th><th>Last used</th><th></th></tr></thead>
    <tbody>
      {#each tokens as token (token.id)}
        <tr data-token={token.id}>
          <td class="font-semibold">{token.name}</td>
          <td>{token.rights.join(", ")}</td>
          <td>{scopeWords(token.scope)}</td>
          <td class="hidden md:table-cell">{token.by}</td>
          <td class="whitespace-nowrap tabular-nums {ended(token) ? 'text-error' : ''}"
            >{token.expires_at ? `${ended(token) ? "ended " : ""}${day(token.expires_at)}` : "no end"}</td
          >
          <td class="whitespace-nowrap"
            >{ago(token.last_used, live.now)}{#if token.last_from}<span class="block text-sm text-base-content/75">from {token.last_from}</span>{/if}</td
          >
          <td class="text-right">
            {#if sure === token.id}
              <span class="mr-2 text-sm">Programs that use it lose access at once.</span>
              <button class="btn btn-error btn-sm" type="button" onclick={() => revoke(token.id)}>Revoke</button>
              <button class="btn btn-ghost btn-sm" type="button" onclick={() => (sure = 0)}>Cancel</button>
            {:else}
              <button class="btn btn-sm" type="button" onclick={() => (sure = token.id)}>Revoke</button>
            {/if}
          </td>
        </tr>
      {:else}
        <tr><td colspan="7" class="text-base-content/75">No tokens yet.</td></tr>
      {/each}
    </tbody>
  </table>
</div>
