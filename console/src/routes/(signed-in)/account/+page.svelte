<script lang="ts">
  import { api, call, type TwoStepSecret } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { times } from "#lib/times.svelte.ts";
  import { ago, day } from "#lib/format.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import { Action, resource } from "#lib/resource.svelte.ts";

  const held = resource(() => call(api.GET("/api/v1/me/sign-ins")));
  const signIns = $derived(held.value ?? []);
  const act = new Action();
  const problem = $derived(act.problem || held.problem);
  let told = $state("");
  let current = $state("");
  let next = $state("");
  let password = $state("");
  let secret = $state<TwoStepSecret | null>(null);
  let code = $state("");
  let codes = $state<string[]>([]);

  /** Does something to the account, says what came of it, and loads the account again. */
  async function change(work: () => Promise<unknown>, words: string) {
    const done = await act.run(async () => {
      await work();
      await session.load();
      return true;
    });
    told = done ? words : "";
    await held.load();
  }

  function setPassword(event: SubmitEvent) {
    event.preventDefault();
    const body = { current, new: next };
    [current, next] = ["", ""];
    return change(() => call(api.PUT("/api/v1/me/password", { body })), "Password changed. All other sign-ins have ended.");
  }

  const end = (id: string) => change(() => call(api.DELETE("/api/v1/me/sign-ins/{id}", { params: { path: { id } } })), "");
  const endOthers = () => change(() => call(api.DELETE("/api/v1/me/sign-ins")), "All other sign-ins have ended.");

  /** The password, which is asked for anew each time. */
  function typed() {
    const body = { password };
    password = "";
    return body;
  }

  async function prepare(event: SubmitEvent) {
    event.preventDefault();
    const body = typed();
    secret = (await act.run(() => call(api.POST("/api/v1/me/two-step", { body })))) ?? null;
  }

  function begin(event: SubmitEvent) {
    event.preventDefault();
    const body = { code };
    code = "";
    return change(async () => {
      ({ codes } = await call(api.PUT("/api/v1/me/two-step", { body })));
      secret = null;
    }, "Two-step sign-in is on.");
  }

  function renew(event: SubmitEvent) {
    event.preventDefault();
    const body = typed();
    codes = [];
    return change(async () => ({ codes } = await call(api.POST("/api/v1/me/two-step/recovery-codes", { body }))), "The old recovery codes no longer work.");
  }

  function endTwoStep() {
    const body = typed();
    return change(() => call(api.POST("/api/v1/me/two-step/end", { body })), "Two-step sign-in is off.");
  }
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
      > >
      <Field label="New password"
        ><input class="input w-full" type="password" name="new" autocomplete="new-password" minlength="12" bind:value={next} required /></Field
      > >
    </div>
    <button class="btn btn-primary mt-3">Change password</button>
  </Card>

  <Card title="Two-step sign-in" data-two-step>
    {#if codes.length > 0}
      <p class="mb-2">Save these recovery codes. Each works once, without the app. They are shown only now.</p>
      <ul class="grid grid-cols-2 gap-1 font-mono text-[0.9em] select-all">
        {#each codes as one (one)}<li>{one}</li>{/each}
      </ul>
      <button class="btn btn-sm mt-3" type="button" onclick={() => (codes = [])}>Done</button>
    {:else if session.me?.two_step}
      <p class="mb-3">In use: signing in takes a code beside the password. {session.me.recovery_codes} recovery codes are left.</p>
      <form class="flex flex-wrap items-end gap-3" onsubmit={renew}>
        <label class="min-w-48 flex-1"
          ><span class="block text-sm text-base-content/75">Password</span><input
            class="input w-full"
            type="password"
            name="password"
            autocomplete="current-password"
            bind:value={password}
            required
          /></label
        >
        <button class="btn">New recovery codes</button>
        <button class="btn" type="button" onclick={endTwoStep} disabled={!password}>Turn off</button>
      </form>
    {:else if secret}
      <p class="mb-2">Scan this code with an authenticator app, or enter the secret there. Then enter the six digits here.</p>
      <div class="flex flex-wrap items-start gap-4">
        <img class="size-44 rounded-field border border-base-300" alt="The secret as a QR code" src="data:image/svg+xml,{encodeURIComponent(secret.svg)}" />
        <form class="min-w-48 flex-1" onsubmit={begin}>
          <p class="mb-2 font-mono text-[0.9em] break-all select-all" data-secret>{secret.secret}</p>
          <Field label="Six digits"
            ><input class="input w-36 font-mono" name="code" inputmode="numeric" autocomplete="one-time-code" bind:value={code} required /></Field
          > >
          <button class="btn btn-primary mt-3 block">Turn on</button>
        </form>
      </div>
    {:else}
      <p class="mb-3 text-base-content/80">Signing in asks for a code from an app as well. A stolen password alone is not enough.</p>
      <form class="flex flex-wrap items-end gap-3" onsubmit={prepare}>
        <label class="min-w-48 flex-1"
          ><span class="block text-sm text-base-content/75">Password</span><input
            class="input w-full"
            type="password"
            name="password"
            autocomplete="current-password"
            bind:value={password}
            required
          /></label
        >
        <button class="btn btn-primary">Set up</button>
      </form>
    {/if}
  </Card>
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
