<!-- The source of a decoder, what is wrong with it, and the way to put it in use. -->
<script lang="ts">
  import type { Tried } from "#lib/api.ts";
  import Confirm from "#lib/components/common/Confirm.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import Editor from "#lib/components/model/Editor.svelte";
  import type { Draft } from "#lib/draft.svelte.ts";
  import { DECODERS } from "#lib/format.ts";
  import { session } from "#lib/session.svelte.ts";

  type Props = {
    draft: Draft;
    tried: Tried | null;
    busy: boolean;
    /** What was said when it was last saved. */
    saved: string;
    /** Saves it, with a reason; says whether that worked. */
    save: (note: string) => Promise<boolean>;
  };
  let { draft, tried, busy, saved, save }: Props = $props();

  let note = $state("");
  const adapter = $derived(tried?.problem?.adapter);
  const broken = $derived(tried?.uplinks.filter((uplink) => uplink.change === "broken").length ?? 0);
  /** Why it should perhaps not be put in use. */
  const doubt = $derived.by(() => {
    if (broken > 0) return `${broken} payloads could be decoded before and fail now.`;
    return tried?.flaw ? `${tried.flaw}. Until that is fixed it is not used, and uplinks are not decoded.` : "";
  });
  const ready = $derived(session.may("decoders") && draft.changed && !tried?.problem && !busy);
  const marks = $derived.by(() => {
    if (tried?.problem) return [tried.problem];
    const found = new Map((tried?.uplinks ?? []).flatMap(({ after }) => (after.problem?.line ? [[after.problem.message, after.problem] as const] : [])));
    return [...found.values()];
  });

  async function put() {
    if (await save(note)) note = "";
  }
</script>

<section class="min-w-0">
  <div class="mb-2 flex flex-wrap items-end gap-3">
    {#if draft.versions.length > 0}
      <Field label="For">
        <select class="select select-sm w-48" bind:value={draft.version} onchange={() => draft.begin()}>
          <option value="">all other versions</option>
          {#each draft.versions as words (words)}<option value={words}>{words}</option>{/each}
        </select>
      </Field>
    {/if}
    <Field label="Kind">
      <select class="select select-sm w-44" bind:value={draft.kind}>
        {#each Object.entries(DECODERS) as [one, words] (one)}<option value={one}>{words}</option>{/each}
      </select>
    </Field>
    {#if draft.changed}
      <span class="pb-1 text-sm font-medium text-warning" data-drafted>draft, not in use</span>
      <button class="btn btn-ghost btn-sm ml-auto" type="button" onclick={() => draft.begin()}>Discard</button>
    {:else}
      <span class="pb-1 text-sm text-success">current</span>
    {/if}
  </div>
  <div class="h-96"><Editor bind:value={draft.source} kind={draft.kind} {marks} label="Source of the decoder" /></div>
  {#if tried?.problem}
    <p class="mt-2 text-error" data-problem>{tried.problem.message}</p>
    {#if adapter}
      <button class="btn btn-sm mt-1" type="button" onclick={() => (draft.source = `${draft.source.trimEnd()}\n${adapter}\n`)}>Add the line</button>
    {/if}
  {/if}
  {#each tried?.notes ?? [] as told, i (i)}<p class="mt-1 text-sm text-base-content/80">{told}</p>{/each}
  {#if tried?.flaw && draft.changed}<p class="mt-2 text-error">It would not be used: {tried.flaw}</p>{/if}
  <form
    class="mt-3 flex flex-wrap items-end gap-3"
    onsubmit={(event) => {
      event.preventDefault();
      if (ready && !doubt) void put();
    }}
  >
    <Field label="Reason for the change" class="min-w-52 flex-1">
      <input class="input input-sm w-full" name="note" bind:value={note} maxlength="300" autocomplete="off" />
    </Field>
    {#if doubt && draft.changed}
      <Confirm label="Save and use" sure="Save all the same" what={doubt} class="btn btn-primary btn-sm" disabled={!ready} run={put} />
    {:else}
      <button class="btn btn-primary btn-sm" disabled={!ready}>Save and use</button>
    {/if}
  </form>
  {#if broken > 0}<p class="mt-1 text-sm text-error">{broken} payloads could be decoded before and fail now.</p>{/if}
  {#if saved && !draft.changed}<p class="mt-1 text-success" role="status" data-saved>✓ {saved}</p>{/if}
</section>
