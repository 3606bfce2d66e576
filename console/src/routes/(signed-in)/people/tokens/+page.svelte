<script lang="ts">
  import { api, call, every, type AccessToken, type Right, type Scope } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import PeopleTabs from "#lib/components/people/PeopleTabs.svelte";
  import ShownOnce from "#lib/components/common/ShownOnce.svelte";
  import { useEstateOptions } from "#lib/estateOptions.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { ago, day, scopeWords } from "#lib/format.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import { Action, resource } from "#lib/resource.svelte.ts";
  import Confirm from "#lib/components/common/Confirm.svelte";

  const estateOptions = useEstateOptions();

  let secret = $state("");

  let name = $state("");
  let rights = $state<Right[]>(["view"]);
  let reaches = $state<"estate" | "fleet" | "device">("estate");
  let fleet = $state("");
  let device = $state("");
  let days = $state<number | null>(90);

  const path = $derived({ estate: session.estate });
  const held = resource(async () => {
    const [tokens, table] = await Promise.all([
      every((query) => call(api.GET("/api/v1/estates/{estate}/tokens", { params: { path, query } }))),
      every((query) => call(api.GET("/api/v1/roles", { params: { query } }))),
    ]);
    return { tokens, table };
  });
  const tokens = $derived(held.value?.tokens ?? []);
  // Nobody gives more than they have.
  const offered = $derived((held.value?.table ?? []).filter((row) => row.for_tokens && session.may(row.right)));
  const act = new Action();
  const problem = $derived(act.problem || held.problem);

  async function make(event: SubmitEvent) {
    event.preventDefault();
    const scope: Scope = reaches === "estate" ? "estate" : reaches === "fleet" ? { fleet } : { device: device.trim() };
    await act.run(async () => {
      const made = await call(api.POST("/api/v1/estates/{estate}/tokens", { params: { path }, body: { name, rights, scope, days } }));
      [secret, name] = [made.secret, ""];
      await held.load();
    });
  }

  async function revoke(id: number) {
    const params = { path: { ...path, id: String(id) } };
    await act.run(() => call(api.DELETE("/api/v1/estates/{estate}/tokens/{id}", { params })));
    await held.load();
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

<Card title="New token" tag="form" class="mb-5" onsubmit={make} data-make-token>
  <div class="flex flex-wrap items-end gap-3">
    <Field label="Purpose" class="min-w-56 flex-1">
      <input class="input w-full" name="name" bind:value={name} placeholder="dashboard in the harbour office" required />
    </Field>
    <Field label="Scope">
      <select class="select w-44" name="reaches" bind:value={reaches}
        ><option value="estate">the whole estate</option><option value="fleet">one fleet</option><option value="device">one device</option></select
      >
    </Field>
    {#if reaches === "fleet"}
      <Field label="Fleet">
        <select class="select w-44" name="fleet" bind:value={fleet} required
          >{#each estateOptions.fleets as one (one.slug)}<option value={one.slug}>{one.name}</option>{/each}</select
        >
      </Field>
    {:else if reaches === "device"}
      <Field label="DevEUI">
        <input class="input w-48 font-mono" name="device" bind:value={device} required />
      </Field>
    {/if}
    <Field label="Days (empty: no expiry)">
      <input class="input w-32" type="number" name="days" min="1" max="3660" bind:value={days} />
    </Field>
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
</Card>

<DataTable data-tokens
  >{#snippet head()}<th>Name</th><th>Allows</th><th>Scope</th><th class="hidden md:table-cell">Made by</th><th>Expires</th><th>Last used</th><th></th>{/snippet}
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
        <Confirm label="Revoke" what="Programs that use it lose access at once." run={() => revoke(token.id)} />
      </td>
    </tr>
  {:else}
    <tr><td colspan="7" class="text-base-content/75">No tokens yet.</td></tr>
  {/each}
</DataTable>
