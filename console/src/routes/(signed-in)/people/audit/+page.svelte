<script lang="ts">
  import { goto } from "$app/navigation";
  import { page } from "$app/state";
  import { api, call, type AuditKind } from "#lib/api.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import PeopleTabs from "#lib/components/people/PeopleTabs.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { moment } from "#lib/format.ts";
  import Field from "#lib/components/common/Field.svelte";
  import { Action, resource, showMore } from "#lib/resource.svelte.ts";

  const KINDS: Record<AuditKind, { sign: string; word: string; tone: string }> = {
    change: { sign: "✎", word: "change", tone: "text-primary" },
    sign: { sign: "→", word: "sign-in", tone: "text-secondary" },
    refusal: { sign: "✕", word: "refusal", tone: "text-error" },
    secret: { sign: "◆", word: "secret", tone: "text-warning" },
  };

  const which = $derived({
    kind: (page.url.searchParams.get("kind") ?? undefined) as AuditKind | undefined,
    who: page.url.searchParams.get("who") ?? undefined,
    what: page.url.searchParams.get("what") ?? undefined,
  });

  const fetchPage = (after?: string) =>
    call(api.GET("/api/v1/estates/{estate}/audit", { params: { path: { estate: session.estate }, query: { ...which, after, limit: 50 } } }));
  const held = resource(() => fetchPage());
  const act = new Action();
  const entries = $derived(held.value?.items ?? []);
  const next = $derived(held.value?.next ?? null);
  const kept = $derived({ days: held.value?.kept_days ?? 0, only: held.value?.append_only ?? true });
  const problem = $derived(act.problem || held.problem);

  const more = () => act.run(() => showMore(held, fetchPage));

  function filter(name: string, value: string) {
    const query = new URLSearchParams(page.url.searchParams.toString());
    if (value) query.set(name, value);
    else query.delete(name);
    void goto(`?${query}`, { replace: true, reset: false });
  }

  const shown = (value: unknown) => (value == null || value === "" ? "–" : typeof value === "string" ? value : JSON.stringify(value));
  const exported = $derived(`/api/v1/estates/${session.estate}/audit/export?${new URLSearchParams(page.url.searchParams.toString())}`);
</script>

<svelte:head><title>Audit log · Keen Heron</title></svelte:head>

<h1 class="mb-2">People</h1>
<PeopleTabs />
<div class="mb-3 flex flex-wrap items-end gap-3">
  <Field label="Kind">
    <select class="select w-36" name="kind" value={which.kind ?? ""} onchange={(event) => filter("kind", event.currentTarget.value)}>
      <option value="">all</option>
      {#each Object.entries(KINDS) as [kind, { word }] (kind)}<option value={kind}>{word}</option>{/each}
    </select>
  </Field>
  <Field label="Who">
    <input class="input w-40" name="who" value={which.who ?? ""} onchange={(event) => filter("who", event.currentTarget.value)} />
  </Field>
  <Field label="Action or object">
    <input class="input w-56" name="what" value={which.what ?? ""} onchange={(event) => filter("what", event.currentTarget.value)} />
  </Field>
  <a class="btn" href={exported} download>Export as CSV</a>
  <p class="ml-auto text-sm text-base-content/75">
    Kept for {kept.days} days; {kept.only ? "entries are only added" : "the database lets entries be changed"}.
  </p>
</div>
<Notice text={problem} />

<ol data-audit>
  {#each entries as entry (entry.id)}
    {@const kind = KINDS[entry.kind]}
    <li class="grid gap-x-3 border-b border-base-300 py-2 sm:grid-cols-[11rem_6rem_1fr]" data-entry={entry.action}>
      <span>
        <time class="block font-mono text-xs text-base-content/75 tabular-nums" datetime={entry.time}>{moment(entry.time)}</time>
        <span class="text-sm text-base-content/75">from {entry.address}</span>
      </span>
      <span class="font-medium {kind.tone}"><span aria-hidden="true" class="inline-block w-5">{kind.sign}</span>{kind.word}</span>
      <div class="min-w-0">
        <p>
          <b class="font-semibold">{entry.who}</b>{#if entry.token}<span class="text-base-content/75">{" "}by token {entry.token}</span>{/if}:
          {entry.action.replaceAll("_", " ")}
          {#if entry.object}<span class="text-base-content/75">·</span> {entry.object}{/if}
          {#if entry.status >= 400}<span class="badge badge-sm badge-error badge-outline ml-1">{entry.status}</span>{/if}
        </p>
        {#if entry.note}<p class="text-sm text-base-content/80">{entry.note}</p>{/if}
        {#each entry.differences ?? [] as one (one.field)}
          <p class="text-sm">
            <span class="font-mono text-[0.9em] text-base-content/75">{one.field}</span>
            {#if one.before != null}<span class="line-through decoration-base-content/40">{shown(one.before)}</span>{" → "}{/if}<span class="break-words"
              >{shown(one.after)}</span
            >
          </p>
        {/each}
      </div>
    </li>
  {:else}
    <li class="py-4 text-base-content/75">No entry matches.</li>
  {/each}
</ol>
{#if next}<button class="btn mt-3" type="button" onclick={more}>Earlier entries</button>{/if}
