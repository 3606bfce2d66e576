<script lang="ts">
  import { api, call, type MessageType } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import ShownOnce from "#lib/components/common/ShownOnce.svelte";
  import Connect from "#lib/components/outlet/Connect.svelte";
  import { useEstateOptions } from "#lib/estateOptions.svelte.ts";
  import { Action, resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  const TYPES: MessageType[] = ["uplink", "join", "refused", "downlink", "notice"];
  const options = useEstateOptions();
  let fleet = $state("");
  let type = $state<MessageType | "">("uplink");
  let secret = $state("");
  const act = new Action();
  const path = $derived({ estate: session.estate });
  const held = resource(() => {
    const query = { address: location.origin, ...(fleet ? { fleet } : {}), ...(type ? { type } : {}) };
    return call(api.GET("/api/v1/estates/{estate}/messages/connect", { params: { path, query } }));
  });

  /** A token that can read these messages, and nothing else. */
  async function makeToken() {
    const scope = fleet ? { fleet } : ("estate" as const);
    const name = `fetching ${fleet || "messages"}`;
    const body = { name, rights: ["view" as const], scope, days: 365 };
    const made = await act.run(() => call(api.POST("/api/v1/estates/{estate}/tokens", { params: { path }, body })));
    if (made) secret = made.secret;
  }
</script>

<svelte:head><title>Fetch messages · Keen Heron</title></svelte:head>

<p class="mb-1 text-sm"><a class="link link-hover" href="/outlets">Outlets</a> ›</p>
<h1 class="mb-2">Fetch messages</h1>
<p class="mb-4 max-w-prose text-base-content/80">
  A program without a server of its own can listen to messages, or fetch them. It starts at any place in the history and misses none, however long it was away.
</p>
<Card class="mb-5">
  <div class="flex flex-wrap items-end gap-3">
    <Field label="Fleet">
      <select class="select w-56" name="fleet" bind:value={fleet}>
        <option value="">all fleets of the estate</option>
        {#each options.fleets as one (one.slug)}<option value={one.slug}>{one.name}</option>{/each}
      </select>
    </Field>
    <Field label="Messages">
      <select class="select w-44" name="type" bind:value={type}>
        <option value="">all</option>
        {#each TYPES as one (one)}<option value={one}>{one}</option>{/each}
      </select>
    </Field>
    {#if session.may("people")}
      <button class="btn" type="button" disabled={act.busy} onclick={makeToken} data-make-token>Make a token for this</button>
    {/if}
  </div>
  {#if !session.may("people")}<p class="mt-2 text-sm text-base-content/75">An owner can make a token: the right <b>view</b> for the fleet is enough.</p>{/if}
  {#if secret}
    <div class="mt-3">
      <ShownOnce
        what="The token can view {fleet || 'the estate'}, and nothing else"
        text="export HERON_TOKEN={secret}"
        hint="The lines below read it from there."
        close={() => (secret = "")}
      />
    </div>
  {/if}
</Card>
<Notice text={act.problem || held.problem} />
{#if held.value}<Connect connecting={held.value} />{:else if !held.problem}<Loading />{/if}
