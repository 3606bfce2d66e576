<!-- Sets up an outlet, or changes one: which messages, what is sent of each, and where to. -->
<script lang="ts">
  import { api, call, type MessageType, type Outlet } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import BrokerFields from "#lib/components/outlet/BrokerFields.svelte";
  import ShapeFields from "#lib/components/outlet/ShapeFields.svelte";
  import TableFields from "#lib/components/outlet/TableFields.svelte";
  import WebFields from "#lib/components/outlet/WebFields.svelte";
  import { useEstateOptions } from "#lib/estateOptions.svelte.ts";
  import { KINDS, OutletDraft } from "#lib/outlet.svelte.ts";
  import { Action } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  let { outlet = null, done, cancel }: { outlet?: Outlet | null; done: (made: Outlet) => void; cancel?: () => void } = $props();
  const TYPES: { id: MessageType; word: string }[] = [
    { id: "uplink", word: "uplinks" },
    { id: "join", word: "joins" },
    { id: "refused", word: "refused frames" },
    { id: "downlink", word: "downlinks, each stage" },
    { id: "notice", word: "notices" },
  ];
  const options = useEstateOptions();
  // The form begins with what is set, and is not changed while somebody types.
  // svelte-ignore state_referenced_locally
  const before = outlet;
  const draft = new OutletDraft(before);
  const act = new Action();

  async function save(event: SubmitEvent) {
    event.preventDefault();
    const made = await act.run(() =>
      before
        ? call(
            api.PATCH("/api/v1/estates/{estate}/outlets/{outlet}", {
              params: { path: { estate: session.estate, outlet: before.slug } },
              body: draft.change(),
            }),
          )
        : call(api.POST("/api/v1/estates/{estate}/outlets", { params: { path: { estate: session.estate } }, body: draft.made() })),
    );
    if (made) done(made);
  }
</script>

<Card title={before ? "Settings" : "New outlet"} tag="form" onsubmit={save} data-outlet-form>
  <div class="grid gap-3 sm:grid-cols-2">
    <Field label="Short name" hint="Lower-case letters, digits and dashes">
      <input class="input w-full" name="slug" bind:value={draft.slug} placeholder="harbour-office" required />
    </Field>
    <Field label="Deliver to" hint={before ? "This stays; make another outlet for another kind" : ""}>
      <select class="select w-full" name="kind" bind:value={draft.kind} disabled={before !== null}>
        {#each KINDS as one (one.id)}<option value={one.id}>{one.word}</option>{/each}
      </select>
    </Field>
    {#if draft.kind === "webhook"}
      <WebFields {draft} {before} />
    {:else if draft.kind === "mqtt"}
      <BrokerFields {draft} {before} />
    {:else}
      <TableFields {draft} {before} />
    {/if}
    <Field label="Fleet">
      <select class="select w-full" name="fleet" bind:value={draft.fleet}>
        <option value="">all fleets of the estate</option>
        {#each options.fleets as one (one.slug)}<option value={one.slug}>{one.name}</option>{/each}
      </select>
    </Field>
    <fieldset>
      <legend class="text-sm text-base-content/75">Messages (none chosen: all)</legend>
      <div class="mt-1 flex flex-wrap gap-x-4 gap-y-1">
        {#each TYPES as one (one.id)}
          <label class="flex items-center gap-1.5"
            ><input class="checkbox checkbox-sm" type="checkbox" name="types" value={one.id} bind:group={draft.types} /> {one.word}</label
          >
        {/each}
      </div>
    </fieldset>
  </div>
  <details class="mt-4" open={draft.shape !== "message"} data-shape>
    <summary class="cursor-pointer font-medium">What is sent of each message</summary>
    <ShapeFields {draft} />
  </details>
  <details class="mt-3" data-more>
    <summary class="cursor-pointer font-medium">More: devices, retries</summary>
    <div class="mt-3 grid gap-3 sm:grid-cols-2">
      <Field label="Only devices with this tag"><input class="input w-full" name="tag" bind:value={draft.tag} /></Field>
      <Field label="Only devices of this model">
        <select class="select w-full" name="model" bind:value={draft.model}>
          <option value="">any model</option>
          {#each options.models as one (one.slug)}<option value={one.slug}>{one.name}</option>{/each}
        </select>
      </Field>
      <Field label="Try again for, in hours" hint="Then a message that is not taken becomes a dead letter">
        <input class="input w-full" name="retry" type="number" min="0.0003" max="168" step="any" bind:value={draft.retryHours} />
      </Field>
    </div>
  </details>
  {#if act.problem}<div class="mt-3"><Notice text={act.problem} /></div>{/if}
  <div class="mt-4 flex gap-2">
    <button class="btn btn-primary" disabled={act.busy}>{before ? "Save" : "Add outlet"}</button>
    {#if cancel}<button class="btn btn-ghost" type="button" onclick={cancel}>Cancel</button>{/if}
  </div>
</Card>
