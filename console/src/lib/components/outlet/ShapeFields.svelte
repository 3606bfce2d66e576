<!-- What is sent of each message, tried on the latest ones. -->
<script lang="ts">
  import { api, call, type TriedMessage } from "#lib/api.ts";
  import Field from "#lib/components/common/Field.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import { moment } from "#lib/format.ts";
  import type { OutletDraft } from "#lib/outlet.svelte.ts";
  import { Action } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  let { draft }: { draft: OutletDraft } = $props();
  const act = new Action();
  let tried = $state<TriedMessage[] | null>(null);
  const pretty = (value: unknown) => JSON.stringify(value, null, 2);

  async function attempt() {
    const body = { shape: draft.chosenShape(), types: draft.types, fleet: draft.fleet || null, model: draft.model || null, latest: 3 };
    const done = await act.run(() => call(api.POST("/api/v1/estates/{estate}/outlets/shape", { params: { path: { estate: session.estate } }, body })));
    tried = done?.items ?? null;
  }
</script>

<div class="mt-3 grid gap-3 sm:grid-cols-2">
  <Field label="Shape">
    <select class="select w-full" name="shape" bind:value={draft.shape}>
      <option value="message">the message as it is documented</option>
      <option value="flat">one flat object of names and values</option>
      <option value="fields">chosen fields</option>
      <option value="script">what a script makes of it</option>
    </select>
  </Field>
  {#if draft.shape === "fields"}
    <Field label="Fields, one a line" hint="For example readings.water_level.value">
      <textarea class="textarea w-full font-mono" name="fields" rows="4" bind:value={draft.fields}></textarea>
    </Field>
  {:else if draft.shape === "script"}
    <Field class="sm:col-span-2" label="Script (JavaScript)" hint="transform(message) returns what is sent, or null for a message that is left out">
      <textarea class="textarea w-full font-mono text-sm" name="script" rows="8" bind:value={draft.script} spellcheck="false"></textarea>
    </Field>
  {/if}
</div>
<button class="btn btn-sm mt-3" type="button" disabled={act.busy} onclick={attempt} data-try-shape>Try on the latest messages</button>
{#if act.problem}<div class="mt-2"><Notice text={act.problem} /></div>{/if}
{#if tried}
  <div class="mt-3 space-y-3" data-tried-shape>
    {#each tried as one (one.before.id)}
      <div class="grid gap-2 lg:grid-cols-2">
        <div class="min-w-0">
          <h3 class="text-sm font-semibold">{one.before.type} of {one.before.device?.name ?? "no device"}, {moment(one.before.time)}</h3>
          <pre class="mt-1 max-h-64 overflow-auto rounded-box bg-base-200 p-3 font-mono text-xs whitespace-pre-wrap">{pretty(one.before)}</pre>
        </div>
        <div class="min-w-0">
          <h3 class="text-sm font-semibold">What is sent</h3>
          {#if one.why}
            <p class="mt-1 text-error"><b>Nothing, as the script fails{one.why.line ? ` in line ${one.why.line}` : ""}:</b> {one.why.message}</p>
          {:else if one.after === undefined || one.after === null}
            <p class="mt-1 text-base-content/75">Nothing: the script leaves it out.</p>
          {:else}
            <pre class="mt-1 max-h-64 overflow-auto rounded-box bg-base-200 p-3 font-mono text-xs whitespace-pre-wrap">{pretty(one.after)}</pre>
          {/if}
        </div>
      </div>
    {:else}
      <p class="text-base-content/75">There is no such message yet.</p>
    {/each}
  </div>
{/if}
