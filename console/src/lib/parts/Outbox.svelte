<!-- A device's outbox: what waits, what went out, and a form for the next. -->
<script lang="ts">
  import { api, say, type OutboxItem } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { ago } from "#lib/words.ts";
  import Bytes from "./Bytes.svelte";
  import Notice from "./Notice.svelte";
  import State from "./State.svelte";

  let { eui, news }: { eui: string; news: number } = $props();

  let items = $state<OutboxItem[]>([]);
  let port = $state(10);
  let payload = $state("");
  let confirmed = $state(false);
  let problem = $state("");
  const path = $derived({ estate: session.estate, eui });

  async function load() {
    const { data } = await api.GET("/api/v1/estates/{estate}/devices/{eui}/outbox", {
      params: { path, query: { limit: 5 } },
    });
    items = data?.items ?? items;
  }

  async function add(event: SubmitEvent) {
    event.preventDefault();
    const { data, error } = await api.POST("/api/v1/estates/{estate}/devices/{eui}/outbox", {
      params: { path },
      body: { port, payload, confirmed },
    });
    problem = data ? "" : say(error);
    if (data) payload = "";
    await load();
  }

  async function cancel(id: string) {
    const { data, error } = await api.DELETE("/api/v1/estates/{estate}/devices/{eui}/outbox/{id}", {
      params: { path: { ...path, id } },
    });
    problem = data ? "" : say(error);
    await load();
  }

  $effect(() => {
    void news;
    void load();
  });
</script>

<section class="rounded-box border border-base-300 p-4">
  <h2 class="mb-2">Outbox</h2>
  <form class="mb-3 flex flex-wrap items-end gap-3" onsubmit={add}>
    <label>
      <span class="block text-sm text-base-content/75">Port</span>
      <input class="input input-sm w-20" type="number" min="1" max="223" name="port" bind:value={port} required />
    </label>
    <label class="min-w-40 flex-1">
      <span class="block text-sm text-base-content/75">Payload in hex</span>
      <input class="input input-sm w-full font-mono" name="payload" bind:value={payload} placeholder="28" autocomplete="off" />
    </label>
    <label class="flex h-8 items-center gap-2">
      <input class="checkbox checkbox-sm" type="checkbox" name="confirmed" bind:checked={confirmed} /> confirmed
    </label>
    <button class="btn btn-sm btn-primary">Put in</button>
  </form>
  <Notice text={problem} />
  {#if items.length === 0}
    <p class="text-base-content/75">Nothing was ever sent to this device.</p>
  {:else}
    <ul class="space-y-1.5">
      {#each items as item (item.id)}
        <li class="flex flex-wrap items-baseline gap-x-3" data-outbox={item.id}>
          <State state={item.state} />
          <span>port {item.port}</span>
          <Bytes hex={item.payload} />
          <span class="text-sm text-base-content/75">{ago(item.changed_at, live.now)}</span>
          {#if item.state === "waiting"}
            <button class="btn btn-ghost btn-xs" onclick={() => cancel(item.id)}>Take out</button>
          {/if}
          {#if item.note}<p class="w-full pl-5 text-sm text-base-content/75">{item.note}</p>{/if}
        </li>
      {/each}
    </ul>
  {/if}
</section>
