<script lang="ts">
  import { goto } from "$app/navigation";
  import { page } from "$app/state";
  import { api, say, type Message } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import MessageList from "#lib/components/traffic/MessageList.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { withNews } from "#lib/format.ts";

  const KINDS = ["uplink", "join", "refused", "downlink", "notice"] as const;
  /** Rows kept on the page; more would only slow it down. */
  const KEPT = 300;
  let messages = $state<Message[] | null>(null);
  let next = $state<string | null>(null);
  let held = $state<Message[]>([]);
  let paused = $state(false);
  let fresh = $state("");
  let problem = $state("");
  const kinds = $derived(page.url.searchParams.get("type")?.split(",") ?? [...KINDS]);

  async function fetchPage(after?: string) {
    const { data, error } = await api.GET("/api/v1/estates/{estate}/traffic", {
      params: { path: { estate: session.estate }, query: { limit: 50, after, type: kinds.join(",") } },
    });
    problem = data ? "" : say(error);
    return data;
  }

  async function load() {
    const data = await fetchPage();
    if (!data) return;
    [messages, next, held] = [data.items, data.next ?? null, []];
  }

  async function earlier() {
    const data = await fetchPage(next ?? undefined);
    if (!data) return;
    messages = [...(messages ?? []), ...data.items];
    next = data.next ?? null;
  }

  function toggle(kind: string) {
    const on = kinds.includes(kind) ? kinds.filter((k) => k !== kind) : [...kinds, kind];
    const all = on.length === 0 || on.length === KINDS.length;
    void goto(all ? "?" : `?type=${KINDS.filter((k) => on.includes(k)).join(",")}`, { reset: false, replace: true });
  }

  function take(message: Message) {
    messages = withNews(messages ?? [], message, KEPT);
    fresh = message.id;
  }

  function goOn() {
    paused = false;
    for (const message of held) take(message);
    held = [];
  }

  $effect(() => {
    const wanted = kinds;
    void load();
    return live.listen((message) => {
      if (!wanted.includes(message.type)) return;
      if (paused) held.push(message);
      else take(message);
    }, load);
  });
</script>

<svelte:head><title>Traffic · Keen Heron</title></svelte:head>

<div class="mb-3 flex flex-wrap items-center gap-4">
  <h1>Traffic</h1>
  <fieldset class="flex flex-wrap gap-3">
    <legend class="sr-only">Types</legend>
    {#each KINDS as kind (kind)}
      <label class="flex items-center gap-1.5">
        <input class="checkbox checkbox-sm" type="checkbox" checked={kinds.includes(kind)} onchange={() => toggle(kind)} />
        {kind}
      </label>
    {/each}
  </fieldset>
  {#if paused}
    <button class="btn btn-sm btn-secondary" onclick={goOn}>Continue ({held.length} new)</button>
  {:else}
    <button class="btn btn-sm" onclick={() => (paused = true)}>Pause</button>
  {/if}
</div>
<Notice text={problem} />

{#if messages?.length === 0}
  <section class="rounded-box border border-base-300 p-6">
    <h2>Nothing heard yet</h2>
    <p class="mt-2">Frames appear here when a registered gateway hears one. First check that a gateway is listening.</p>
  </section>
{:else if messages}
  <MessageList {messages} fresh={messages[0]?.id === fresh} />
  {#if next}
    <button class="btn mt-3" onclick={earlier}>Earlier</button>
  {/if}
{:else if !problem}
  <p class="text-base-content/75">Loading…</p>
{/if}
