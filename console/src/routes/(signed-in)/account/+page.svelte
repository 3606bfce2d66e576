<script lang="ts">
  import { api, say, type SignInRecord, type TwoStepSecret } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { times } from "#lib/times.svelte.ts";
  import { ago, day } from "#lib/format.ts";

  let signIns = $state<SignInRecord[]>([]);
  let problem = $state("");
  let told = $state("");
  let current = $state("");
  let next = $state("");
  let password = $state("");
  let secret = $state<TwoStepSecret | null>(null);
  let code = $state("");
  let codes = $state<string[]>([]);

  async function load() {
    const { data, error } = await api.GET("/api/v1/me/sign-ins");
    problem = data ? "" : say(error);
    signIns = data ?? [];
  }

  $effect(() => void load());

  /** Shows the result and loads the account again. */
  async function after(error: Parameters<typeof say>[0], words: string) {
    problem = error ? say(error) : "";
    told = error ? "" : words;
    if (!error) await session.load();
    await load();
    if (error) problem = say(error);
  }

  async function setPassword(event: SubmitEvent) {
    event.preventDefault();
    const { error } = await api.PUT("/api/v1/me/password", { body: { current, new: next } });
    [current, next] = ["", ""];
    await after(error, "Password changed. All other sign-ins have ended.");
  }

  async function end(id: string) {
    const { error } = await api.DELETE("/api/v1/me/sign-ins/{id}", { params: { path: { id } } });
    await after(error, "");
  }

  async function endOthers() {
    const { error } = await api.DELETE("/api/v1/me/sign-ins");
    await after(error, "All other sign-ins have ended.");
  }

  async function prepare(event: SubmitEvent) {
    event.preventDefault();
    const { data, error } = await api.POST("/api/v1/me/two-step", { body: { password } });
    password = "";
    secret = data ?? null;
    problem = data ? "" : say(error);
  }

  async function begin(event: SubmitEvent) {
    event.preventDefault();
    const { data, error } = await api.PUT("/api/v1/me/two-step", { body: { code } });
    code = "";
    if (data) [secret, codes] = [null, data.codes];
    await after(error, "Two-step sign-in is on.");
  }

  async function renew(event: SubmitEvent) {
    event.preventDefault();
    const { data, error } = await api.POST("/api/v1/me/two-step/recovery-codes", { body: { password } });
    password = "";
    codes = data?.codes ?? [];
    await after(error, "The old recovery codes no longer work.");
  }

  async function endTwoStep() {
    const { error } = await api.POST("/api/v1/me/two-step/end", { body: { password } });
    password = "";
    await after(error, "Two-step sign-in is off.");
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
  <form class="rounded-box border border-base-300 p-4" onsubmit={setPassword} data-password>
    <h2>Password</h2>
    <p class="mb-3 text-sm text-base-content/80">At least 12 characters and hard to guess: several unrelated words work well.</p>
    <div class="grid gap-3">
      <label
        ><span class="block text-sm text-base-content/75">Current password</span><input
          class="input w-full"
          type="password"
          name="current"
          autocomplete="current-password"
          bind:value={current}
          required
        /></label
      >
      <label
        ><span class="block text-sm text-base-content/75">New password</span><input
          class="input w-full"
          type="password"
          name="new"
          autocomplete="new-password"
          minlength="12"
          bind:value={next}
          required
        /></label
      >
    </div>
    <button class="btn btn-primary mt-3">Change password</button>
  </form>

  <section class="rounded-box border border-base-300 p-4" data-two-step>
    <h2>Two-step sign-in</h2>
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
          <label
            ><span class="block text-sm text-base-content/75">Six digits</span><input
              class="input w-36 font-mono"
              name="code"
              inputmode="numeric"
              autocomplete="one-time-code"
              bind:value={code}
              required
            /></label
          >
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
  </section>
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
  <div class="overflow-x-auto">
    <table class="table table-sm">
      <thead><tr><th>From</th><th>Program</th><th>Since</th><th>Last used</th><th class="hidden sm:table-cell">Expires</th><th></th></tr></thead>
      <tbody>
        {#each signIns as one (one.id)}
          <tr>
            <td class="font-mono text-[0.9em]">{one.address}</td>
            <td class="max-w-80 truncate" title={one.program}>{one.program || "–"}</td>
            <td class="whitespace-nowrap tabular-nums">{day(one.since)}</td>
            <td class="whitespace-nowrap">{ago(one.last_used, live.now)}</td>
            <td class="hidden whitespace-nowrap tabular-nums sm:table-cell">{day(one.expires_at)}</td>
            <td class="text-right"
              >{#if one.this_one}<span class="text-base-content/75">this sign-in</span>{:else}<button
                  class="btn btn-sm"
                  type="button"
                  onclick={() => end(one.id)}>Sign out</button
                >{/if}</td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
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
