<script lang="ts">
  import { goto } from "$app/navigation";
  import { api, call } from "#lib/api.ts";
  import Heron from "#lib/components/common/Heron.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { day, offerWords } from "#lib/format.ts";
  import { Action, resource } from "#lib/resource.svelte.ts";

  // It stands behind a `#`, which no server on the way and no log sees.
  let code = $state(location.hash.slice(1));
  let name = $state("");
  let password = $state("");

  const held = resource(async () => {
    const opened = await call(api.POST("/api/v1/invitations/open", { body: { code } }));
    const known = await api.GET("/api/v1/me");
    return { opened, me: known.data ?? null };
  });
  const opened = $derived(held.value?.opened ?? null);
  const me = $derived(held.value?.me ?? null);
  const act = new Action();
  const busy = $derived(act.busy);
  const problem = $derived(act.problem || held.problem);

  const take = (account: { name: string; password: string } | null) =>
    act.run(async () => {
      const taken = await call(api.POST("/api/v1/invitations/take", { body: { code, account } }));
      session.me = taken.me;
      history.replaceState(null, "", "/invitation");
      await goto("/");
    });
</script>

<svelte:head><title>Invitation · Keen Heron</title></svelte:head>

<main class="grid min-h-dvh place-items-center bg-base-200 p-4">
  <div class="w-full max-w-md space-y-4 rounded-box border border-base-300 bg-base-100 p-8" data-invitation>
    <div class="flex items-center gap-3 text-primary">
      <Heron size={40} />
      <h1>Keen Heron</h1>
    </div>
    {#if opened}
      <p>
        <b class="font-semibold">{opened.by}</b> invites <b class="font-semibold">{opened.for_whom}</b> to
        <b class="font-semibold capitalize">{opened.estate}</b>: {offerWords(opened.offer)}.
        <span class="text-sm text-base-content/75">Good until {day(opened.expires_at)}, once.</span>
      </p>
      <Notice text={problem} />
      {#if me}
        <button class="btn btn-primary w-full" type="button" disabled={busy} onclick={() => take(null)}>Take it as {me.name}</button>
        <p class="text-sm text-base-content/75">Or with a new account:</p>
      {/if}
      <form
        class="space-y-3"
        onsubmit={(event) => {
          event.preventDefault();
          void take({ name, password });
        }}
      >
        <label class="block"
          ><span class="mb-1 block font-medium">Your name here</span><input
            class="input w-full"
            name="name"
            autocomplete="username"
            bind:value={name}
            required
          /></label
        >
        <label class="block"
          ><span class="mb-1 block font-medium">A password</span><input
            class="input w-full"
            type="password"
            name="password"
            autocomplete="new-password"
            minlength="12"
            bind:value={password}
            required
          /></label
        >
        <p class="text-sm text-base-content/75">At least 12 characters: several unrelated words work well.</p>
        <button class="btn {me ? '' : 'btn-primary'} w-full" disabled={busy}>{busy ? "Creating the account…" : "Create account and accept"}</button>
      </form>
      {#if !me}<p class="text-sm text-base-content/75">You have an account? <a class="link" href="/sign-in">Sign in</a>, and open the link again.</p>{/if}
    {:else}
      <Notice text={problem} />
    {/if}
  </div>
</main>
