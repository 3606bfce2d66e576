<script lang="ts">
  import { goto } from "$app/navigation";
  import { api, call } from "#lib/api.ts";
  import Heron from "#lib/components/common/Heron.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { Action } from "#lib/resource.svelte.ts";

  let name = $state("owner");
  let password = $state("");
  const act = new Action();
  /** A code is wanted as well. */
  let second = $state(false);
  let code = $state("");

  async function signIn(event: SubmitEvent) {
    event.preventDefault();
    const done = await act.run(() => call(api.POST("/api/v1/sign-in", { body: { name, password, code: second ? code : null } })));
    if (done) {
      session.me = done.me;
      await goto("/");
    } else if (act.refusal?.code === "code_wanted") {
      second = true;
      act.clear();
    } else {
      if (!second) password = "";
      code = "";
    }
  }
</script>

<svelte:head><title>Sign in · Keen Heron</title></svelte:head>

<main class="grid min-h-dvh place-items-center bg-base-200 p-4">
  <form class="w-full max-w-sm space-y-4 rounded-box border border-base-300 bg-base-100 p-8" onsubmit={signIn}>
    <div class="flex items-center gap-3 text-primary">
      <Heron size={40} />
      <h1>Keen Heron</h1>
    </div>
    <p class="text-base-content/80">Sign in to the network service.</p>
    <label class="block">
      <span class="mb-1 block font-medium">Name</span>
      <input class="input w-full" bind:value={name} name="name" autocomplete="username" required />
    </label>
    <label class="block">
      <span class="mb-1 block font-medium">Password</span>
      <input class="input w-full" type="password" bind:value={password} name="password" autocomplete="current-password" required />
    </label>
    {#if second}
      <label class="block">
        <span class="mb-1 block font-medium">Code from the app, or a recovery code</span>
        <!-- svelte-ignore a11y_autofocus -->
        <input class="input w-full font-mono" bind:value={code} name="code" autocomplete="one-time-code" autofocus required />
      </label>
    {/if}
    <Notice text={act.problem} />
    <button class="btn btn-primary w-full" disabled={act.busy}>{act.busy ? "Signing in…" : "Sign in"}</button>
    <p class="text-sm text-base-content/75">At first start the service creates an owner account and prints its password once, in its terminal.</p>
  </form>
</main>
