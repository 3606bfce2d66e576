<!-- Models from a catalogue: what comes with the service, a git repository or an archive. -->
<script lang="ts">
  import { api, call, say, type CatalogueOutcome, type CatalogueSource } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { ago } from "#lib/format.ts";
  import { Action } from "#lib/resource.svelte.ts";

  let { sources, done }: { sources: CatalogueSource[]; done: () => void } = $props();

  const FATES = { new: "new", updated: "updated", same: "the same", bad: "not usable", taken: "name taken", gone: "gone there" };
  const TONES = { new: "text-success", updated: "text-primary", same: "text-base-content/75", bad: "text-error", taken: "text-warning", gone: "text-warning" };

  type Ways = "shipped" | "git" | "files";

  let outcome = $state<CatalogueOutcome | null>(null);
  let way = $state<Ways>("shipped");
  let address = $state("");
  let branch = $state("");
  let file = $state<File | null>(null);

  const path = $derived({ estate: session.estate });
  const complete = $derived(way === "shipped" || (way === "git" ? address.trim() !== "" : file !== null));
  const act = new Action();
  const working = $derived(act.busy);

  function ask(preview: boolean) {
    if (way === "shipped") return api.POST("/api/v1/estates/{estate}/catalogue/shipped", { params: { path, query: { preview } } });
    if (way === "git") return api.POST("/api/v1/estates/{estate}/catalogue/git", { params: { path }, body: { address, branch: branch || null, preview } });
    // The archive goes as it is.
    const raw = { body: file as never, bodySerializer: (body: unknown) => body as never, headers: { "content-type": "application/octet-stream" } };
    const name = file?.name.replace(/\.(zip|tar|tgz|tar\.gz)$/, "") ?? "";
    return api.POST("/api/v1/estates/{estate}/catalogue/files", { params: { path, query: { name, preview } }, ...raw });
  }

  async function take(asked: () => Promise<CatalogueOutcome>) {
    const data = await act.run(asked);
    outcome = data ?? null;
    if (data?.done) done();
  }

  const go = (preview: boolean) => take(() => call(ask(preview)));
  const refresh = (source: string, preview: boolean) =>
    take(() => call(api.POST("/api/v1/estates/{estate}/catalogue/refresh", { params: { path }, body: { source, preview } })));
</script>

<Card
  title="Import a catalogue"
  tag="form"
  class="mb-4"
  onsubmit={(event) => {
    event.preventDefault();
    void go(false);
  }}
  oninput={() => (outcome = null)}
  aria-label="Import a catalogue"
>
  <div class="flex flex-wrap items-end gap-3">
    <Field label="From">
      <select class="select select-sm w-52" name="way" bind:value={way}>
        <option value="shipped">shipped models</option>
        <option value="git">a git repository</option>
        <option value="files">an archive (.zip, .tar.gz)</option>
      </select>
    </Field>
    {#if way === "git"}
      <Field label="Address">
        <input
          class="input input-sm w-80 max-w-full font-mono"
          name="address"
          bind:value={address}
          placeholder="https://…"
          autocomplete="off"
          spellcheck="false"
        />
      </Field>
      <Field label="Branch or tag">
        <input class="input input-sm w-32" name="branch" bind:value={branch} placeholder="default" autocomplete="off" />
      </Field>
    {:else if way === "files"}
      <Field label="The archive">
        <input
          class="file-input file-input-sm w-72"
          type="file"
          name="archive"
          accept=".zip,.tar,.tgz,.gz"
          onchange={(e) => (file = e.currentTarget.files?.[0] ?? null)}
        />
      </Field>
    {/if}
    <button class="btn btn-sm" type="button" disabled={!complete || working} onclick={() => go(true)}>Preview</button>
    <button class="btn btn-primary btn-sm" disabled={!complete || working}>Import</button>
    {#if working}<span class="text-sm text-base-content/75" role="status">Reading and testing…</span>{/if}
  </div>
  {#if sources.length > 0}
    <ul class="mt-3 border-t border-base-300 pt-2 text-sm">
      {#each sources as source (source.source)}
        <li class="flex flex-wrap items-baseline gap-x-3 py-0.5">
          <span class="font-mono">{source.source}</span>
          <span class="text-base-content/75"
            >{source.models} models, imported {ago(source.refreshed_at, live.now)}{source.revision ? `, commit ${source.revision.slice(0, 10)}` : ""}</span
          >
          {#if source.kind !== "files"}
            <button class="link" type="button" disabled={working} onclick={() => refresh(source.source, true)}>check for updates</button>
            <button class="link" type="button" disabled={working} onclick={() => refresh(source.source, false)}>refresh</button>
          {/if}
        </li>
      {/each}
    </ul>
  {/if}
  {#if act.problem}<div class="mt-3"><Notice text={act.problem} /></div>{/if}
  {#if outcome}
    <div class="mt-3 rounded-field bg-base-200 p-3" data-outcome role="status">
      <p>
        {outcome.done ? "Imported" : "Nothing is changed yet; this would be imported"} from {outcome.source}{outcome.revision
          ? `, commit ${outcome.revision.slice(0, 10)}`
          : ""}.
      </p>
      <ul class="mt-1">
        {#each outcome.models as model (model.slug)}
          <li class="grid grid-cols-[11rem_7rem_1fr] gap-x-3 py-0.5" data-fate={model.fate}>
            <span class="font-mono text-[0.9em]">{model.slug}</span>
            <span class="font-medium {TONES[model.fate]}">{FATES[model.fate]}</span>
            <span>
              {model.name}
              {#if model.changed.length > 0}<span class="text-sm">· changes: {model.changed.join(", ")}</span>{/if}
              {#if model.kept.length > 0}<span class="text-sm text-warning">· stays as edited here: {model.kept.join(", ")}</span>{/if}
              {#if model.fate === "taken"}<span class="text-sm">· a model of this name is from elsewhere and is kept</span>{/if}
              {#if model.problem}<span class="text-sm text-error">· {say(model.problem)}</span>{/if}
              {#if model.flaw}<span class="block text-sm text-error">not used until it is fixed: {model.flaw}</span>{/if}
            </span>
          </li>
        {/each}
      </ul>
    </div>
  {/if}
</Card>
