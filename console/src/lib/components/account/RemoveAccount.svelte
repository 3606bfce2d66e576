<!-- Removes one's own account. The password is asked for once more. -->
<script lang="ts">
  import { goto } from "$app/navigation";
  import { api, call } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import { Action } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  const act = new Action();
  let password = $state("");

  async function remove(event: SubmitEvent) {
    event.preventDefault();
    const body = { password };
    password = "";
    const gone = await act.run(async () => {
      await call(api.POST("/api/v1/me/remove", { body }));
      return true;
    });
    if (!gone) return;
    await goto("/sign-in");
    session.me = null;
  }
</script>

<Card title="Remove this account" tag="form" class="mt-5" onsubmit={remove} data-remove-account>
  <p class="mb-2 max-w-prose">
    Your sign-ins and tokens end, and you lose access to every estate. What you made and did stays. Nothing brings the account back.
  </p>
  <div class="flex flex-wrap items-end gap-3">
    <Field label="Password"
      ><input class="input input-sm w-52" type="password" name="remove_password" autocomplete="current-password" bind:value={password} required /></Field
    >
    <button class="btn btn-error btn-sm" disabled={act.busy}>Remove the account</button>
  </div>
  {#if act.problem}<div class="mt-3"><Notice text={act.problem} /></div>{/if}
</Card>
