<script lang="ts">
  import { page } from "$app/state";
  import { api, call, type Model, type ReadingRule, type TestPayload, type TriedUplink } from "#lib/api.ts";
  import Bytes from "#lib/components/common/Bytes.svelte";
  import DecodeAnew from "#lib/components/model/DecodeAnew.svelte";
  import Editions from "#lib/components/model/Editions.svelte";
  import Editor from "#lib/components/model/Editor.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import ReadingRules from "#lib/components/model/ReadingRules.svelte";
  import TriedUplinks from "#lib/components/model/TriedUplinks.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { DECODERS, versionWords } from "#lib/format.ts";
  import Card from "#lib/components/common/Card.svelte";
  import { Action, resource } from "#lib/resource.svelte.ts";

  type Kind = keyof typeof DECODERS;
  const EMPTY = "function decodeUplink(input) {\n  return { data: {} };\n}\n";
  /** After so long without a key, the draft is tried. */
  const PAUSE_MS = 600;

  const slug = $derived(page.params.model ?? "");
  const message = $derived(page.url.searchParams.get("message"));
  const path = $derived({ estate: session.estate, model: slug });
  let model = $state<Model | null>(null);
  let version = $state(page.url.searchParams.get("version") ?? "");
  let source = $state("");
  let kind = $state<Kind>("script");
  let rules = $state<Record<string, ReadingRule>>({});
  let tests = $state<TestPayload[]>([]);
  let last = $state(50);
  let port = $state(1);
  let bytes = $state("");
  let note = $state("");
  let saved = $state("");
  let saves = $state(0);

  const act = new Action();
  const versions = $derived((model?.versions ?? []).map(versionWords));
  /** The current decoder of the version that is edited. */
  const inForce = $derived.by(() => {
    const own = model?.versions?.find((one) => versionWords(one) === version);
    return own
      ? { source: own.decoder, kind: (own.decoder_kind ?? "script") as Kind, tests: own.tests ?? [] }
      : { source: model?.decoder ?? "", kind: (model?.decoder_kind ?? "script") as Kind, tests: model?.tests ?? [] };
  });
  const drafted = $derived(
    model !== null &&
      (source !== (inForce.source || EMPTY) ||
        kind !== inForce.kind ||
        JSON.stringify(rules) !== JSON.stringify(model.readings ?? {}) ||
        JSON.stringify(tests) !== JSON.stringify(inForce.tests)),
  );
  /** What is tried: the draft on stored uplinks, or on what was pasted. */
  const draft = $derived.by(() => {
    if (!model) return null;
    const pasted = bytes.trim() !== "";
    return {
      decoder: model.decoder || drafted ? source : null,
      decoder_kind: kind,
      version: version || null,
      readings: rules,
      tests: model.decoder || drafted ? tests : null,
      payloads: pasted ? [{ port, bytes }] : [],
      messages: message && !pasted ? [message] : [],
      last: pasted ? 0 : last,
    };
  });
  const held = resource(
    async () => {
      const body = $state.snapshot(draft) as typeof draft;
      return body && call(api.POST("/api/v1/estates/{estate}/models/{model}/try", { params: { path }, body }));
    },
    { typing: { key: () => [draft, saves], pauseMs: PAUSE_MS } },
  );
  const tried = $derived(held.value);
  const problem = $derived(act.problem || held.problem);
  const names = $derived([...new Set((tried?.uplinks ?? []).flatMap((uplink) => Object.keys(uplink.after.readings)))]);
  const broken = $derived(tried?.uplinks.filter((uplink) => uplink.change === "broken").length ?? 0);
  const marks = $derived.by(() => {
    if (tried?.problem) return [tried.problem];
    const found = new Map((tried?.uplinks ?? []).flatMap(({ after }) => (after.problem?.line ? [[after.problem.message, after.problem] as const] : [])));
    return [...found.values()];
  });

  function begin() {
    source = inForce.source || EMPTY;
    kind = inForce.kind;
    tests = structuredClone($state.snapshot(inForce.tests)) as TestPayload[];
    rules = structuredClone($state.snapshot(model?.readings ?? {})) as Record<string, ReadingRule>;
  }

  const load = () =>
    act.run(async () => {
      model = await call(api.GET("/api/v1/estates/{estate}/models/{model}", { params: { path } }));
      begin();
    });

  /** What looks wrong with its readings, by the devices that were tried. */
  const doubts = resource(() => {
    void saves;
    return call(api.GET("/api/v1/estates/{estate}/models/{model}/doubts", { params: { path } }));
  });

  /** What the draft makes of a payload becomes a test: as the decoder gives it, before scales and words. */
  function keep(uplink: TriedUplink) {
    const name = prompt("Name of the test:", `${uplink.device?.name ?? "pasted"}, port ${uplink.port}`);
    if (!name) return;
    const readings = Object.fromEntries(Object.entries(uplink.after.readings).map(([of, reading]) => [of, reading.raw ?? reading.value]));
    tests = [...tests.filter((test) => test.name !== name), { name, port: uplink.port, bytes: uplink.payload, readings, fails: !!uplink.after.problem }];
  }

  async function put() {
    if (!model) return;
    if (broken > 0 && !confirm(`${broken} payloads could be decoded before and fail now. Use it all the same?`)) return;
    if (tried?.flaw && !confirm(`${tried.flaw}. It would not be used until it is fixed, and uplinks would not be decoded. Save it all the same?`)) return;
    const about = $state.snapshot(model) as Model;
    const own = about.versions?.find((one) => versionWords(one) === version);
    if (own) [own.decoder, own.decoder_kind, own.tests] = [source, kind, $state.snapshot(tests)];
    else [about.decoder, about.decoder_kind, about.tests] = [source, kind, $state.snapshot(tests)];
    const {
      slug: _slug,
      flaw: _flaw,
      source: _source,
      edited: _edited,
      changed_at: _changed,
      revision,
      ...body
    } = { ...about, readings: $state.snapshot(rules) };
    const data = await act.run(() =>
      call(
        api.PUT("/api/v1/estates/{estate}/models/{model}", {
          params: { path, query: { note: note || undefined } },
          body,
          headers: { "If-Match": revision ?? "" },
        }),
      ),
    );
    if (!data) return;
    model = data;
    note = "";
    saves += 1;
    saved = data.flaw ? "" : "Saved. It decodes every new uplink.";
    begin();
  }

  $effect(() => {
    void slug;
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
    <section class="min-w-0">
      <div class="mb-2 flex flex-wrap items-end gap-3">
        {#if versions.length > 0}
          <label class="text-sm"
            ><span class="block text-base-content/75">For</span>
            <select class="select select-sm w-48" bind:value={version} onchange={() => begin()}>
              <option value="">all other versions</option>
              {#each versions as words (words)}<option value={words}>{words}</option>{/each}
            </select>
          </label>
        {/if}
        <label class="text-sm"
          ><span class="block text-base-content/75">Kind</span>
          <select class="select select-sm w-44" bind:value={kind}>
            {#each Object.entries(DECODERS) as [one, words] (one)}<option value={one}>{words}</option>{/each}
          </select>
        </label>
        {#if drafted}
          <span class="pb-1 text-sm font-medium text-warning" data-drafted>draft, not in use</span>
          <button class="btn btn-ghost btn-sm ml-auto" type="button" onclick={begin}>Discard</button>
        {:else}
          <span class="pb-1 text-sm text-success">current</span>
        {/if}
      </div>
      <div class="h-96"><Editor bind:value={source} {kind} {marks} label="Source of the decoder" /></div>
      {#if tried?.problem}
        <p class="mt-2 text-error" data-problem>{tried.problem.message}</p>
        {#if tried.problem.adapter}<button class="btn btn-sm mt-1" type="button" onclick={() => (source = `${source.trimEnd()}\n${tried?.problem?.adapter}\n`)}
            >Add the line</button
          >{/if}
      {/if}
      {#each tried?.notes ?? [] as told, i (i)}<p class="mt-1 text-sm text-base-content/80">{told}</p>{/each}
      {#if tried?.flaw && drafted}<p class="mt-2 text-error">It would not be used: {tried.flaw}</p>{/if}
      <form
        class="mt-3 flex flex-wrap items-end gap-3"
        onsubmit={(event) => {
          event.preventDefault();
          void put();
        }}
      >
        <label class="min-w-52 flex-1 text-sm"
          ><span class="block text-base-content/75">Reason for the change</span>
          <input class="input input-sm w-full" name="note" bind:value={note} maxlength="300" autocomplete="off" />
        </label>
        <button class="btn btn-primary btn-sm" disabled={!session.may("decoders") || !drafted || !!tried?.problem || held.busy}>Save and use</button>
      </form>
      {#if broken > 0}<p class="mt-1 text-sm text-error">{broken} payloads could be read before and cannot be any more.</p>{/if}
      {#if saved && !drafted}<p class="mt-1 text-success" role="status" data-saved>✓ {saved}</p>{/if}
    </section>
    <div class="grid gap-5">
      <Card>
        <h2 class="mb-1">Readings</h2>
        <ReadingRules
          bind:rules
          {names}
          doubts={(doubts.value ?? []).filter(({ reading }) => JSON.stringify(rules[reading]) === JSON.stringify(model?.readings?.[reading]))}
        />
      </Card>
      <Card data-tests>
        <h2 class="mb-1">Tests</h2>
        {#if tests.length === 0}
          <p class="text-sm text-base-content/80">
            No tests yet. Save a result below as a test. Tests run on every save; while one fails, the decoder is not used.
          </p>
        {/if}
        <ul class="text-sm">
          {#each tests as test (test.name)}
            <li class="flex flex-wrap items-baseline gap-x-3 border-b border-base-300 py-0.5 last:border-b-0">
              <span class="font-medium">{test.name}</span>
              <span class="text-base-content/75">port {test.port}</span>
              <Bytes hex={test.bytes} />
              <span class="text-base-content/75"
                >{test.fails
                  ? "must fail"
                  : Object.entries(test.readings ?? {})
                      .map(([name, value]) => `${name} ${value}`)
                      .join(", ")}</span
              >
              <button class="link ml-auto" type="button" onclick={() => (tests = tests.filter((other) => other !== test))}>remove</button>
            </li>
          {/each}
        </ul>
      </Card>
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
      {#if held.busy}<span class="text-sm text-base-content/75" role="status">Trying…</span>{/if}
    </div>
    {#if tried}<TriedUplinks {tried} {drafted} {keep} />{/if}
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
    {#if session.may("decoders")}<DecodeAnew model={slug} flawed={!!model.flaw || !(model.decoder || model.versions?.length)} />{/if}
  </div>
{:else if !problem}
  <p class="text-base-content/75">Loading…</p>
{/if}
