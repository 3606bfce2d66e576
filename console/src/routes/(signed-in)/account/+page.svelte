<script lang="ts">
  import { api, call, every } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { times } from "#lib/times.svelte.ts";
  import { ago, day } from "#lib/format.ts";
  import RemoveAccount from "#lib/components/account/RemoveAccount.svelte";
  import TwoStep from "#lib/components/account/TwoStep.svelte";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import { Action, resource } from "#lib/resource.svelte.ts";

  const held = resource(() => every((query) => call(api.GET("/api/v1/me/sign-ins", { params: { query } }))));
  const signIns = $derived(held.value ?? []);
  const act = new Action();
  const problem = $derived(act.problem || held.problem);
  let told = $state("");
  let current = $state("");
  let next = $state("");
  let keepTokens = $state(false);

  /** Does something to the account, says what came of it, and loads the account again. */
  async function change<T>(work: () => Promise<T>, words: string | ((done: T) => string)) {
    const done = await act.run(async () => {
      const result = await work();
      await session.load();
      return { result };
    });
    told = !done ? "" : typeof words === "string" ? words : words(done.result);
    await held.load();
  }

  function setPassword(event: SubmitEvent) {
    event.preventDefault();
    const body = { current, new: next, keep_tokens: keepTokens };
    [current, next, keepTokens] = ["", "", false];
    return change(
      () => call(api.PUT("/api/v1/me/password", { body })),
      ({ sign_ins_ended, tokens_ended }) => `Password changed. ${sign_ins_ended} other sign-ins and ${tokens_ended} access tokens have ended.`,
    );
  }

  const end = (id: string) => change(() => call(api.DELETE("/api/v1/me/sign-ins/{id}", { params: { path: { id } } })), "");
  const endOthers = () => change(() => call(api.DELETE("/api/v1/me/sign-ins")), "All other sign-ins have ended.");
</script>

<svelte:head><title>Your account · Keen Heron</title></svelte:head>

<div class="mb-3 flex items-center gap-4">
  <h1>{session.me?.name}</h1>
  <button class="btn btn-sm sm:hidden" type="button" onclick={() => session.signOut()}>Sign out</button>
</div>
{#if problem}<div class="mb-3"><Notice text={problem} /></div>{/if}
{#if told}<p class="mb-3 text-success" role="status">{told}</p>{/if}

<div class="grid gap-4 lg:grid-cols-2">
  <Card title="Password" tag="form" onsubmit={setPassword} data-password>
    <p class="mb-3 text-sm text-base-content/80">At least 12 characters and hard to guess: several unrelated words work well.</p>
    <div class="grid gap-3">
      <Field label="Current password"
        ><input class="input w-full" type="password" name="current" autocomplete="current-password" bind:value={current} required /></Field
      >
      <Field label="New password"
        ><input class="input w-full" type="password" name="new" autocomplete="new-password" minlength="12" bind:value={next} required /></Field
      >
      <label class="flex items-center gap-2 text-sm"
        ><input class="checkbox checkbox-sm" type="checkbox" name="keep_tokens" bind:checked={keepTokens} /> Keep access tokens, which end otherwise</label
      >
    </div>
    <button class="btn btn-primary mt-3">Change password</button>
  </Card>

  <TwoStep {act} {change} />
</div>

<fieldset class="mt-5" id="times" data-times>
  <legend class="mb-1 text-lg font-semibold">Times</legend>
  <label class="mr-5"
    ><input class="radio radio-sm mr-1" type="radio" name="times" checked={!times.utc} onchange={() => times.choose(false)} />Local ({Intl.DateTimeFormat().resolvedOptions()
      .timeZone})</label
  >
  <label><input class="radio radio-sm mr-1" type="radio" name="times" checked={times.utc} onchange={() => times.choose(true)} />UTC</label>
</fieldset>

<section class="mt-5" data-sign-ins>
  <div class="mb-1 flex flex-wrap items-center gap-3">
    <h2>Sign-ins</h2>
    {#if signIns.length > 1}<button class="btn btn-sm" type="button" onclick={endOthers}>Sign out all others</button>{/if}
  </div>
  <DataTable
    >{#snippet head()}<th>From</th><th>Program</th><th>Since</th><th>Last used</th><th class="hidden sm:table-cell">Expires</th><th></th>{/snippet}
    {#each signIns as one (one.id)}
      <tr>
        <td class="font-mono text-[0.9em]">{one.address}</td>
        <td class="max-w-80 truncate" title={one.program}>{one.program || "–"}</td>
        <td class="whitespace-nowrap tabular-nums">{day(one.since)}</td>
        <td class="whitespace-nowrap">{ago(one.last_used, live.now)}</td>
        <td class="hidden whitespace-nowrap tabular-nums sm:table-cell">{day(one.expires_at)}</td>
        <td class="text-right"
          >{#if one.this_one}<span class="text-base-content/75">this sign-in</span>{:else}<button class="btn btn-sm" type="button" onclick={() => end(one.id)}
              >Sign out</button
            >{/if}</td
        >
      </tr>
    {/each}
  </DataTable>
</section>

<section class="mt-5">
  <h2 class="mb-1">Estates</h2>
  {#each session.me?.estates ?? [] as estate (estate.slug)}
    <p>
      <b class="font-semibold">{estate.name}</b>: {estate.role ?? "shared with you"}
      <span class="text-sm text-base-content/75">({estate.rights.join(", ")})</span>
    </p>
  {:else}
    <p class="text-base-content/75">None yet. Ask an owner for an invitation.</p>
  {/each}
</section>

<RemoveAccount />
