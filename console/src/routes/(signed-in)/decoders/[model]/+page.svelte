<script lang="ts">
  import { page } from "$app/state";
  import { api, call, every } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import Redecode from "#lib/components/model/Redecode.svelte";
  import DecoderTests from "#lib/components/model/DecoderTests.svelte";
  import DraftEditor from "#lib/components/model/DraftEditor.svelte";
  import Editions from "#lib/components/model/Editions.svelte";
  import ReadingRules from "#lib/components/model/ReadingRules.svelte";
  import TriedUplinks from "#lib/components/model/TriedUplinks.svelte";
  import { Draft } from "#lib/draft.svelte.ts";
  import { Action, resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import Loading from "#lib/components/common/Loading.svelte";

  /** After so long without a key, the draft is tried. */
  const PAUSE_MS = 600;

  const slug = $derived(page.params.model ?? "");
  const message = $derived(page.url.searchParams.get("message"));
  const path = $derived({ estate: session.estate, model: slug });
  const draft = new Draft();
  draft.version = page.url.searchParams.get("version") ?? "";
  const model = $derived(draft.model);
  let last = $state(50);
  let port = $state(1);
  let bytes = $state("");
  let saved = $state("");
  let saves = $state(0);

  /** The draft, with the stored uplinks it is tried on, or what was pasted. */
  const question = $derived.by(() => {
    if (!model) return null;
    const pasted = bytes.trim() !== "";
    const on = { payloads: pasted ? [{ port, bytes }] : [], messages: message && !pasted ? [message] : [], last: pasted ? 0 : last };
    return { ...draft.question, ...on };
  });
  const trial = resource(
    async () => {
      const body = $state.snapshot(question) as typeof question;
      return body && call(api.POST("/api/v1/estates/{estate}/models/{model}/try", { params: { path }, body }));
    },
    { typing: { key: () => [question, saves], pauseMs: PAUSE_MS } },
  );
  const tried = $derived(trial.value);
  const names = $derived([...new Set((tried?.uplinks ?? []).flatMap((uplink) => Object.keys(uplink.after.readings)))]);
  /** What looks wrong with its readings, by the devices that were tried. */
  const doubts = resource(() => {
    void saves;
    return every((query) => call(api.GET("/api/v1/estates/{estate}/models/{model}/doubts", { params: { path, query } })));
  });

  const act = new Action();
  const problem = $derived(act.problem || trial.problem);
  const load = () => act.run(async () => draft.take(await call(api.GET("/api/v1/estates/{estate}/models/{model}", { params: { path } }))));

  async function save(note: string): Promise<boolean> {
    const asked = draft.saved();
    if (!asked) return false;
    const params = { path, query: { note: note || undefined } };
    const headers = { "If-Match": asked.revision };
    const now = await act.run(() => call(api.PUT("/api/v1/estates/{estate}/models/{model}", { params, body: asked.body, headers })));
    if (!now) return false;
    draft.take(now);
    saves += 1;
    saved = now.flaw ? "" : "Saved. It decodes every new uplink.";
    return true;
  }

  $effect(() => {
    void path;
    void load();
  });
</script>

<svelte:head><title>{slug} · Keen Heron</title></svelte:head>

<p class="mb-1 text-sm"><a class="link link-hover" href="/decoders">Decoders</a> ›</p>
{#if model}
  <div class="mb-3 flex flex-wrap items-baseline gap-x-5 gap-y-1">
    <h1>{model.maker} {model.name}</h1>
    <span class="font-mono text-[0.9em] text-base-content/75">{slug}</span>
    <a class="link text-sm" href="/devices?model={slug}">its devices</a>
  </div>
{/if}
<Notice text={problem} />

{#if model}
  {#if model.flaw}<p class="mb-3 border-l-4 border-error/60 pl-3"><b class="text-error">Not used until it is fixed:</b> {model.flaw}</p>{/if}
  <div class="grid items-start gap-5 lg:grid-cols-[1.25fr_1fr]">
    <DraftEditor {draft} {tried} busy={trial.busy} {saved} {save} />
    <div class="grid gap-5">
      <Card title="Readings">
        <ReadingRules bind:rules={draft.rules} {names} doubts={(doubts.value ?? []).filter(({ reading }) => draft.ruleStands(reading))} />
      </Card>
      <DecoderTests bind:tests={draft.tests} />
    </div>
  </div>

  <Card class="mt-5">
    <div class="mb-3 flex flex-wrap items-end gap-3">
      <h2 class="mr-2">Try on</h2>
      <label class="flex items-center gap-2 text-sm"
        >the last
        <select class="select select-sm w-20" bind:value={last} disabled={bytes.trim() !== ""}>
          {#each [10, 50, 200, 500] as n (n)}<option value={n}>{n}</option>{/each}
        </select> stored uplinks
      </label>
      <label class="flex flex-1 items-center gap-2 text-sm"
        >or these bytes
        <input class="input input-sm min-w-40 flex-1 font-mono" name="bytes" bind:value={bytes} placeholder="01 0a ff" autocomplete="off" spellcheck="false" />
      </label>
      <label class="flex items-center gap-2 text-sm"
        >on port
        <input class="input input-sm w-20" type="number" name="port" min="1" max="223" bind:value={port} />
      </label>
      {#if trial.busy}<span class="text-sm text-base-content/75" role="status">Trying…</span>{/if}
    </div>
    {#if tried}<TriedUplinks {tried} drafted={draft.changed} keep={(uplink) => draft.keep(uplink)} />{/if}
  </Card>

  <div class="mt-5 grid items-start gap-5 lg:grid-cols-[1.25fr_1fr]">
    <Editions
      model={slug}
      news={saves}
      restored={() => {
        saves += 1;
        void load();
      }}
    />
    {#if session.may("decoders")}<Redecode model={slug} flawed={!!model.flaw || !(model.decoder || model.versions?.length)} />{/if}
  </div>
{:else if !problem}
  <Loading />
{/if}
