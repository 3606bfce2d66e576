<!-- A device's outbox: what waits and when it goes, what became of the last ones, and a form for the next. -->
<script lang="ts">
  import { api, call, type OutboxPlace, type TestCommand } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { ago, expected, moment, until } from "#lib/format.ts";
  import Bytes from "#lib/components/common/Bytes.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import State from "#lib/components/common/State.svelte";
  import Card from "#lib/components/common/Card.svelte";
  import DownlinkFields from "#lib/components/device/DownlinkFields.svelte";
  import DownlinkOptions from "#lib/components/device/DownlinkOptions.svelte";
  import { DownlinkDraft } from "#lib/downlink.svelte.ts";
  import { Action, resource } from "#lib/resource.svelte.ts";

  /** `commands` are examples for the model's encoder; null if there is none. */
  let { eui, news, commands }: { eui: string; news: number; commands: TestCommand[] | null } = $props();

  /** Fetched, and those shown of the ones that are done. */
  const [FETCHED, DONE] = [100, 5];
  const draft = new DownlinkDraft(() => commands);
  const path = $derived({ estate: session.estate, eui });
  const held = resource(async () => {
    void news;
    return (await call(api.GET("/api/v1/estates/{estate}/devices/{eui}/outbox", { params: { path, query: { limit: FETCHED } } }))).items;
  });
  const items = $derived(held.value ?? []);
  const waiting = $derived(items.filter((item) => item.state === "waiting").toSorted((a, b) => (a.ahead ?? 0) - (b.ahead ?? 0)));
  const shown = $derived([
    ...items.filter((item) => item.state === "under_way" || item.state === "awaiting_ack"),
    ...waiting,
    ...items.filter((item) => !["waiting", "under_way", "awaiting_ack"].includes(item.state)).slice(0, DONE),
  ]);

  // What it comes to is said as one types, and follows what waits.
  const checked = resource(
    async () => {
      const body = draft.item();
      return draft.content === "" || !body ? null : await call(api.POST("/api/v1/estates/{estate}/devices/{eui}/outbox/check", { params: { path }, body }));
    },
    { typing: { key: () => [draft.item(), waiting.length], pauseMs: 250 } },
  );
  const readBack = $derived(draft.content === "" || checked.problem || !draft.item() ? null : checked.value);
  const act = new Action();
  const problem = $derived(act.problem || draft.problem() || (draft.content === "" ? "" : checked.problem));

  async function add(event: SubmitEvent) {
    event.preventDefault();
    const body = draft.item();
    if (!body) return;
    await change(async () => {
      await call(api.POST("/api/v1/estates/{estate}/devices/{eui}/outbox", { params: { path }, body }));
      [draft.content, draft.first] = ["", false];
    });
  }

  /** Changes the outbox, and shows it as it then is. */
  async function change(work: () => Promise<unknown>) {
    await act.run(work);
    await held.load();
  }

  const cancel = (id: string) => change(() => call(api.DELETE("/api/v1/estates/{estate}/devices/{eui}/outbox/{id}", { params: { path: { ...path, id } } })));
  const move = (id: string, to: OutboxPlace) =>
    change(() => call(api.PATCH("/api/v1/estates/{estate}/devices/{eui}/outbox/{id}", { params: { path: { ...path, id } }, body: { place: to } })));
</script>

<Card title="Outbox">
  {#if session.may("send")}
    <form class="mb-3 grid gap-2" onsubmit={add} aria-label="Add a downlink">
      <DownlinkFields {draft} />
      <div class="flex flex-wrap items-center gap-x-4 gap-y-2">
        <DownlinkOptions {draft} ordered />
        <button class="btn btn-sm btn-primary ml-auto">Add to outbox</button>
      </div>
      {#if readBack}
        <p class="rounded-field bg-base-200 px-3 py-1.5 text-sm" data-outbox-check>
          <Bytes hex={readBack.payload} /> · {readBack.length}
          {readBack.length === 1 ? "byte" : "bytes"} on port {readBack.port}
          {#if readBack.reads_as}· reads as {Object.entries(readBack.reads_as)
              .map(([name, value]) => `${name} ${value}`)
              .join(", ")}{/if} · it
          {readBack.note}{readBack.expected_at ? `; ${expected(readBack.expected_at, live.now)}` : ""}
        </p>
        {#each readBack.warnings as warning (warning)}<p class="border-l-4 border-warning pl-2 text-sm">{warning}</p>{/each}
      {/if}
    </form>
  {/if}
  <Notice text={problem} />
  {#if items.length === 0}
    <p class="text-base-content/75">No downlink has been sent to this device.</p>
  {:else}
    <ul class="space-y-1.5">
      {#each shown as item (item.id)}
        {@const at = waiting.indexOf(item)}
        <li class="flex flex-wrap items-baseline gap-x-3" data-outbox={item.id}>
          <State state={item.state} />
          <span>port {item.port}</span>
          <Bytes hex={item.payload} />
          {#if item.confirmed}<span class="text-sm text-base-content/75">confirmed</span>{/if}
          <span class="text-sm text-base-content/75" title={moment(item.changed_at)}>{ago(item.changed_at, live.now)}</span>
          {#if item.state === "waiting" && session.may("send")}
            <span class="flex gap-1">
              {#if at > 0}<button
                  class="btn btn-ghost btn-xs"
                  type="button"
                  aria-label="Earlier"
                  title="Earlier"
                  onclick={() => move(item.id, { before: waiting[at - 1]?.id ?? "" })}>↑</button
                >{/if}
              {#if at < waiting.length - 1}
                {@const next = waiting[at + 2]}
                <button
                  class="btn btn-ghost btn-xs"
                  type="button"
                  aria-label="Later"
                  title="Later"
                  onclick={() => move(item.id, next ? { before: next.id } : "last")}>↓</button
                >
              {/if}
              <button class="btn btn-ghost btn-xs" type="button" onclick={() => cancel(item.id)}>Remove</button>
            </span>
          {/if}
          {#if item.note}
            <p class="w-full pl-5 text-sm text-base-content/75">
              {item.note}{#if item.expected_at}; <span title={moment(item.expected_at)}>{expected(item.expected_at, live.now)}</span>{/if}
              {#if item.expires_at && item.state === "waiting"}<span title={moment(item.expires_at)}>; expires in {until(item.expires_at, live.now)}</span>{/if}
            </p>
          {/if}
        </li>
      {/each}
    </ul>
  {/if}
</Card>
