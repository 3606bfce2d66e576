<!-- Removes the estate with all that is in it. Its short name is typed first: nothing brings it back. -->
<script lang="ts">
  import { api, call } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import { Action, resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  const path = $derived({ estate: session.estate });
  const held = resource(() => call(api.GET("/api/v1/estates/{estate}/watch", { params: { path } })));
  const act = new Action();
  let typed = $state("");

  async function remove(event: SubmitEvent) {
    event.preventDefault();
    const gone = await act.run(async () => {
      await call(api.DELETE("/api/v1/estates/{estate}", { params: { path, query: { everything: true } } }));
      return true;
    });
    // All that is on the page was its own.
    if (gone) location.assign("/");
  }
</script>

<Card title="Remove this estate" tag="form" class="mt-6" onsubmit={remove} data-remove-estate>
  <p class="mb-2 max-w-prose">
    {#if held.value}
      It has {held.value.devices}
      {held.value.devices === 1 ? "device" : "devices"} and {held.value.gateways}
      {held.value.gateways === 1 ? "gateway" : "gateways"}.
    {/if}
    They are removed with their keys and credentials, all people lose their access, and the messages are deleted. Nothing of it can be brought back. The audit log
    keeps its entries.
  </p>
  <div class="flex flex-wrap items-end gap-3">
    <Field label="Type {session.estate} to confirm">
      <input class="input input-sm w-44 font-mono" name="confirm_estate" bind:value={typed} autocomplete="off" spellcheck="false" />
    </Field>
    <button class="btn btn-error btn-sm" disabled={typed !== session.estate || act.busy}>Remove the estate</button>
  </div>
  {#if act.problem}<div class="mt-3"><Notice text={act.problem} /></div>{/if}
</Card>
