<!-- A model each time it was saved: compared, and brought back. -->
<script lang="ts">
  import { api, call, type Comparison } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { ago, moment } from "#lib/format.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import Confirm from "#lib/components/common/Confirm.svelte";
  import Card from "#lib/components/common/Card.svelte";
  import { Action, resource } from "#lib/resource.svelte.ts";

  let { model, news, restored }: { model: string; news: number; restored: () => void } = $props();

  let comparison = $state<Comparison | null>(null);
  const act = new Action();
  const path = $derived({ estate: session.estate, model });

  const held = resource(() => {
    void news;
    return call(api.GET("/api/v1/estates/{estate}/models/{model}/editions", { params: { path, query: { limit: 50 } } }));
  });
  const editions = $derived(held.value?.items ?? []);
  const problem = $derived(act.problem || held.problem);

  async function compare(from: number, to: number) {
    const params = { path, query: { from, to } };
    comparison = (await act.run(() => call(api.GET("/api/v1/estates/{estate}/models/{model}/comparison", { params })))) ?? null;
  }

  async function restore(number: number) {
    comparison = null;
    const params = { path: { ...path, edition: number } };
    const done = await act.run(() => call(api.POST("/api/v1/estates/{estate}/models/{model}/editions/{edition}/restore", { params })));
    if (done) restored();
  }
</script>

<Card title="Editions" data-editions>
  <Notice text={problem} />
  {#if editions.length === 0}
    <p class="text-base-content/75">Every saved state of the model.</p>
  {:else}
    <ul class="text-sm">
      {#each editions as edition, i (edition.number)}
        <li class="flex flex-wrap items-baseline gap-x-3 border-b border-base-300 py-1 last:border-b-0" data-edition={edition.number}>
          <b class="tabular-nums">{edition.number}</b>
          {#if i === 0}<span class="text-success">{edition.flaw ? "" : "current"}</span>{/if}
          {#if edition.flaw}<span class="text-error" title={edition.flaw}>has an error, not used</span>{/if}
          <span title={moment(edition.saved_at)}>{ago(edition.saved_at, live.now)}{edition.saved_by ? ` by ${edition.saved_by}` : ""}</span>
          <span class="text-base-content/75">{[edition.changed.join(", "), edition.note].filter(Boolean).join(" · ")}</span>
          <span class="ml-auto flex gap-3">
            {#if i < editions.length - 1}<button class="link" type="button" onclick={() => compare(editions[i + 1]?.number ?? 0, edition.number)}
                >changes</button
              >{/if}
            {#if i > 0}
              <button class="link" type="button" onclick={() => compare(edition.number, editions[0]?.number ?? 0)}>compare with current</button>
              <Confirm
                label="restore"
                sure="Restore {edition.number}"
                what="The current state stays as an edition."
                tone="btn-primary"
                class="link"
                run={() => restore(edition.number)}
              />
            {/if}
          </span>
        </li>
      {/each}
    </ul>
  {/if}
  {#if comparison}
    <div class="mt-3" data-comparison>
      <p class="flex items-baseline gap-3">
        <b>From edition {comparison.from} to {comparison.to}</b> <button class="link text-sm" type="button" onclick={() => (comparison = null)}>close</button>
      </p>
      {#each comparison.parts as part (part.field)}
        <p class="mt-2 text-sm text-base-content/75">{part.field}</p>
        <div class="overflow-x-auto rounded-field border border-base-300 font-mono text-[0.8em]">
          {#each part.lines as line, i (i)}
            <div class="grid grid-cols-[2.5rem_2.5rem_1rem_1fr] {line.change === 'added' ? 'bg-success/15' : line.change === 'removed' ? 'bg-error/15' : ''}">
              <span class="pr-1 text-right text-base-content/75">{line.old ?? ""}</span>
              <span class="pr-1 text-right text-base-content/75">{line.new ?? ""}</span>
              <span>{line.change === "added" ? "+" : line.change === "removed" ? "−" : line.change === "skipped" ? "…" : ""}</span>
              <span class="whitespace-pre">{line.text}</span>
            </div>
          {/each}
        </div>
      {:else}
        <p>No differences.</p>
      {/each}
    </div>
  {/if}
</Card>
