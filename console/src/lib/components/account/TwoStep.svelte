<!-- Signing in with a code from an app beside the password. -->
<script lang="ts">
  import { api, call, type TwoStepSecret } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import type { Action } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  type Props = { act: Action; change: (work: () => Promise<unknown>, words: string) => Promise<void> };
  /** `change` does something to the account, and says what came of it. */
  let { act, change }: Props = $props();
  let password = $state("");
  let secret = $state<TwoStepSecret | null>(null);
  let code = $state("");
  let codes = $state<string[]>([]);

  /** The password, which is asked for each time. */
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

<Card title="Two-step sign-in" data-two-step>
  {#if codes.length > 0}
    <p class="mb-2">Save these recovery codes. Each works once, without the app. They are shown only now.</p>
    <ul class="grid grid-cols-2 gap-1 font-mono text-[0.9em] select-all">
      {#each codes as one (one)}<li>{one}</li>{/each}
    </ul>
    <button class="btn btn-sm mt-3" type="button" onclick={() => (codes = [])}>Done</button>
  {:else if session.me?.two_step}
    <p class="mb-3">In use: sign-in asks for a code as well as the password. {session.me.recovery_codes} recovery codes are left.</p>
    <form class="flex flex-wrap items-end gap-3" onsubmit={renew}>
      <Field label="Password" class="min-w-48 flex-1">
        <input class="input w-full" type="password" name="password" autocomplete="current-password" bind:value={password} required />
      </Field>
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
        >
        <button class="btn btn-primary mt-3 block">Turn on</button>
      </form>
    </div>
  {:else}
    <p class="mb-3 text-base-content/80">With it, sign-in also asks for a code from an app: a stolen password alone is not enough.</p>
    <form class="flex flex-wrap items-end gap-3" onsubmit={prepare}>
      <Field label="Password" class="min-w-48 flex-1">
        <input class="input w-full" type="password" name="password" autocomplete="current-password" bind:value={password} required />
      </Field>
      <button class="btn btn-primary">Set up</button>
    </form>
  {/if}
</Card>
