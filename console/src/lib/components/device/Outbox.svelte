<!-- A device's outbox: what waits and when it goes, what became of the last ones, and a form for the next. -->
<script lang="ts">
  import { api, call, type NewOutboxItem, type OutboxPlace, type TestCommand } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { ago, expected, moment, until } from "#lib/format.ts";
  import Bytes from "#lib/components/common/Bytes.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import State from "#lib/components/common/State.svelte";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import { Action, resource } from "#lib/resource.svelte.ts";

  /** `commands` are examples for the model's encoder; null if there is none. */
  let { eui, news, commands }: { eui: string; news: number; commands: TestCommand[] | null } = $props();

  /** Fetched, and those shown of the ones that are done. */
  const [FETCHED, DONE] = [100, 5];
  const PLACEHOLDERS = { payload: "28", payload_base64: "KA==", text: "reboot", values: '{"opening": 40}' };
  type Form = keyof typeof PLACEHOLDERS;

  let chosen = $state<Form | null>(null);
  // What the encoder is known to take is more than anybody guesses.
  const form = $derived(chosen ?? (commands?.length ? "values" : "payload"));
  let port = $state<number | null>(10);
  let content = $state("");
  let confirmed = $state(false);
  let first = $state(false);
  let expiresInS = $state(0);
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

  /** The downlink as the form has it; null if its values are no JSON yet. */
  function item(): NewOutboxItem | null {
    const about = { port, confirmed, first, expires_in_s: expiresInS || null };
    if (form !== "values") return { ...about, [form]: content };
    try {
      return { ...about, values: JSON.parse(content || "{}") };
    } catch {
      return null;
    }
  }

  // What it comes to is said as one types, and follows what waits.
  const checked = resource(
    async () => {
      const body = item();
      return content === "" || !body ? null : await call(api.POST("/api/v1/estates/{estate}/devices/{eui}/outbox/check", { params: { path }, body }));
    },
    { typing: { key: () => [item(), waiting.length], pauseMs: 250 } },
  );
  const readBack = $derived(content === "" || checked.problem || !item() ? null : checked.value);
  const act = new Action();
  const problem = $derived.by(() => {
    if (act.problem || content === "") return act.problem;
    return item() ? checked.problem : 'values: that is no object of JSON yet, such as {"opening": 40}';
  });

  function choose(command: TestCommand) {
    content = JSON.stringify(command.values);
    port = null;
  }

  async function add(event: SubmitEvent) {
    event.preventDefault();
    const body = item();
    if (!body) return;
    await change(async () => {
      await call(api.POST("/api/v1/estates/{estate}/devices/{eui}/outbox", { params: { path }, body }));
      [content, first] = ["", false];
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
      <div class="flex flex-wrap items-end gap-3">
        <Field label="What to send">
          <select class="select select-sm w-36" name="form" bind:value={() => form, (to) => ([chosen, content] = [to, ""])}>
            {#if commands}<option value="values">named values</option>{/if}
            <option value="payload">bytes in hex</option>
            <option value="payload_base64">base64</option>
            <option value="text">text</option>
          </select>
        </Field>
        <Field label={`${form === "values" ? "Values, as JSON" : form === "text" ? "Text" : "Payload"}`} class="min-w-40 flex-1">
          <input
            class="input input-sm w-full font-mono"
            name="payload"
            bind:value={content}
            placeholder={PLACEHOLDERS[form]}
            autocomplete="off"
            spellcheck="false"
          />
        </Field>
        <Field label="Port">
          <input
            class="input input-sm w-20"
            type="number"
            min="1"
            max="223"
            name="port"
            bind:value={port}
            required={form !== "values"}
            placeholder={form === "values" ? "auto" : ""}
          />
        </Field>
      </div>
      {#if form === "values" && commands?.length}
        <div class="flex flex-wrap items-center gap-1.5 text-sm" role="group" aria-label="Known commands">
          {#each commands as command (command.name)}
            <button class="btn btn-xs" type="button" onclick={() => choose(command)}>{command.name}</button>
          {/each}
        </div>
      {/if}
      <div class="flex flex-wrap items-center gap-x-4 gap-y-2">
        <label class="flex items-center gap-2">
          <input class="checkbox checkbox-sm" type="checkbox" name="confirmed" bind:checked={confirmed} /> confirmed
        </label>
        <label class="flex items-center gap-2">
          <input class="checkbox checkbox-sm" type="checkbox" name="first" bind:checked={first} /> send first
        </label>
        <label class="flex items-center gap-2">
          <span class="text-sm text-base-content/75">Expires</span>
          <select class="select select-sm w-32" name="expires" bind:value={expiresInS}>
            <option value={0}>never</option>
            <option value={600}>after 10 min</option>
            <option value={3600}>after 1 h</option>
            <option value={86400}>after 1 day</option>
            <option value={604800}>after 7 days</option>
          </select>
        </label>
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
