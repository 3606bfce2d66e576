<script lang="ts">
  import { goto } from "$app/navigation";
  import { page } from "$app/state";
  import { api, call, type Message } from "#lib/api.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import MessageList from "#lib/components/traffic/MessageList.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { withNews } from "#lib/format.ts";
  import { Action, resource, showMore } from "#lib/resource.svelte.ts";
  import Loading from "#lib/components/common/Loading.svelte";
  import Empty from "#lib/components/common/Empty.svelte";

  const KINDS = ["uplink", "join", "refused", "downlink", "notice"] as const;
  /** Rows kept on the page; more would only slow it down. */
  const KEPT = 300;
  /** Came while the list was paused. */
  let waiting = $state<Message[]>([]);
  let paused = $state(false);
  let fresh = $state("");
  const kinds = $derived(page.url.searchParams.get("type")?.split(",") ?? [...KINDS]);

  const fetchPage = (after?: string) =>
    call(api.GET("/api/v1/estates/{estate}/traffic", { params: { path: { estate: session.estate }, query: { limit: 50, after, type: kinds.join(",") } } }));

  const list = resource(
    () => {
      waiting = [];
      return fetchPage();
    },
    {
      fold: (shown, message) => {
        if (!kinds.includes(message.type)) return shown;
        if (!paused) return take(shown, message);
        waiting.push(message);
        return shown;
      },
    },
  );
  const act = new Action();
  const messages = $derived(list.value?.items ?? null);
  const next = $derived(list.value?.next ?? null);
  const problem = $derived(act.problem || list.problem);

  const earlier = () => act.run(() => showMore(list, fetchPage));

  function toggle(kind: string) {
    const on = kinds.includes(kind) ? kinds.filter((k) => k !== kind) : [...kinds, kind];
    const all = on.length === 0 || on.length === KINDS.length;
    void goto(all ? "?" : `?type=${KINDS.filter((k) => on.includes(k)).join(",")}`, { reset: false, replace: true });
  }

  function take<T extends { items: Message[] }>(shown: T, message: Message): T {
    fresh = message.id;
    return { ...shown, items: withNews(shown.items, message, KEPT) };
  }

  function goOn() {
    paused = false;
    if (list.value) list.value = waiting.reduce(take, list.value);
    waiting = [];
  }
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
    <button class="btn btn-sm btn-secondary" onclick={goOn}>Continue ({waiting.length} new)</button>
  {:else}
    <button class="btn btn-sm" onclick={() => (paused = true)}>Pause</button>
  {/if}
</div>
<Notice text={problem} />

{#if messages?.length === 0}
  <Empty title="Nothing heard yet">
    <p class="mt-2">Frames appear here when a registered gateway hears one. First check that a gateway is listening.</p>
  </Empty>
{:else if messages}
  <MessageList {messages} fresh={messages[0]?.id === fresh} />
  {#if next}
    <button class="btn mt-3" onclick={earlier}>Earlier</button>
  {/if}
{:else if !problem}
  <Loading />
{/if}
