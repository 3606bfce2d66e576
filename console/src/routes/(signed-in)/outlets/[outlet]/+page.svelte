<script lang="ts">
  import { goto } from "$app/navigation";
  import { page } from "$app/state";
  import { api, call, type Delivery, type Outlet } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Confirm from "#lib/components/common/Confirm.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import State from "#lib/components/common/State.svelte";
  import Tabs, { currentTab } from "#lib/components/common/Tabs.svelte";
  import Commands from "#lib/components/outlet/Commands.svelte";
  import Connect from "#lib/components/outlet/Connect.svelte";
  import DeadLetters from "#lib/components/outlet/DeadLetters.svelte";
  import Deliveries from "#lib/components/outlet/Deliveries.svelte";
  import Exchange from "#lib/components/outlet/Exchange.svelte";
  import OutletForm from "#lib/components/outlet/OutletForm.svelte";
  import { ago, moment, waiting } from "#lib/format.ts";
  import { live } from "#lib/live.svelte.ts";
  import { place } from "#lib/outlet.svelte.ts";
  import { Action, resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  const slug = $derived(page.params.outlet ?? "");
  const path = $derived({ estate: session.estate, outlet: slug });
  const held = resource(() => call(api.GET("/api/v1/estates/{estate}/outlets/{outlet}", { params: { path } })), { everyMs: 3000 });
  const outlet = $derived(held.value);
  const may = $derived(session.may("outlets"));
  const tabs = $derived([
    { id: "deliveries", label: "Deliveries" },
    { id: "letters", label: `Dead letters${outlet?.status.dead_letters ? ` (${outlet.status.dead_letters})` : ""}` },
    ...(outlet?.status.commands ? [{ id: "commands", label: "Commands" }] : []),
    { id: "connect", label: "Connect" },
    { id: "settings", label: "Settings" },
  ]);
  const connecting = resource(() => call(api.GET("/api/v1/estates/{estate}/outlets/{outlet}/connect", { params: { path } })));
  const act = new Action();
  let tried = $state<Delivery | null>(null);
  let since = $state("");
  let told = $state("");

  async function test() {
    tried = (await act.run(() => call(api.POST("/api/v1/estates/{estate}/outlets/{outlet}/test", { params: { path } })))) ?? null;
    await held.load();
  }

  async function pause(paused: boolean) {
    await act.run(() =>
      paused
        ? call(api.POST("/api/v1/estates/{estate}/outlets/{outlet}/pause", { params: { path } }))
        : call(api.POST("/api/v1/estates/{estate}/outlets/{outlet}/resume", { params: { path } })),
    );
    await held.load();
  }

  async function sendAgain(event: SubmitEvent) {
    event.preventDefault();
    const body = { since: new Date(since).toISOString() };
    const sent = await act.run(() => call(api.POST("/api/v1/estates/{estate}/outlets/{outlet}/send-again", { params: { path }, body })));
    if (sent) told = `${sent.messages} messages are looked at again.`;
    await held.load();
  }

  async function remove() {
    const gone = await act.run(async () => {
      await call(api.DELETE("/api/v1/estates/{estate}/outlets/{outlet}", { params: { path } }));
      return true;
    });
    if (gone) await goto("/outlets");
  }

  async function saved(changed: Outlet) {
    if (changed.slug !== slug) await goto(`/outlets/${changed.slug}?tab=settings`, { replaceState: true });
    await held.load();
  }
</script>

<svelte:head><title>{slug} · Outlets · Keen Heron</title></svelte:head>

<p class="mb-1 text-sm"><a class="link link-hover" href="/outlets">Outlets</a> ›</p>
<div class="mb-3 flex flex-wrap items-center gap-x-5 gap-y-2">
  <h1>{slug}</h1>
  {#if outlet}<State state={outlet.status.state} />{/if}
  {#if outlet && may}
    <div class="ml-auto flex gap-2">
      <button class="btn btn-sm btn-primary" disabled={act.busy} onclick={test} data-test>Test</button>
      {#if outlet.status.state === "paused"}
        <button class="btn btn-sm" disabled={act.busy} onclick={() => pause(false)}>Resume</button>
      {:else}
        {#if outlet.status.state !== "delivering"}<button class="btn btn-sm" disabled={act.busy} onclick={() => pause(false)}>Try now</button>{/if}
        <button class="btn btn-sm" disabled={act.busy} onclick={() => pause(true)}>Pause</button>
      {/if}
    </div>
  {/if}
</div>
<Notice text={act.problem || held.problem} />

{#if outlet}
  {@const { status } = outlet}
  {#if tried}
    <Card class="mb-4" data-tried={tried.delivered}>
      <div class="mb-2 flex items-center gap-3">
        <p class={tried.delivered ? "text-success" : "text-error"}>
          <b>{tried.delivered ? "✓ The rehearsal was taken" : "✕ The rehearsal was not taken"}</b> after {tried.took_ms.toFixed(0)} ms{tried.why
            ? `: ${tried.why}`
            : ""}.
        </p>
        <button class="btn btn-ghost btn-xs ml-auto" onclick={() => (tried = null)}>Close</button>
      </div>
      <Exchange request={tried.request} answer={tried.answer} />
    </Card>
  {/if}
  <Card class="mb-4" data-status={status.state}>
    <dl class="grid grid-cols-2 gap-x-6 gap-y-3 sm:grid-cols-4">
      <div>
        <dt class="text-sm text-base-content/75">Since</dt>
        <dd title={moment(status.since)}>{ago(status.since, live.now)}</dd>
      </div>
      <div>
        <dt class="text-sm text-base-content/75">Waiting</dt>
        <dd>
          <b class="tabular-nums">{waiting(status.backlog)}</b>{#if status.oldest_waiting}, the oldest of {moment(status.oldest_waiting)}{/if}
        </dd>
      </div>
      <div>
        <dt class="text-sm text-base-content/75">Delivered since the start</dt>
        <dd><b class="tabular-nums">{status.delivered}</b>, {status.a_minute.toFixed(1)} a minute</dd>
      </div>
      <div>
        <dt class="text-sm text-base-content/75">Last delivered</dt>
        <dd>{ago(status.last_delivered, live.now)}</dd>
      </div>
    </dl>
    {#if status.why}
      <p class="mt-3 {status.state === 'failing' ? 'text-error' : 'text-warning'}" data-why>
        <b class="inline-block first-letter:uppercase">{status.why}</b>{#if status.next_try}<span class="text-base-content/80"
            >. The next try is at {moment(status.next_try)}</span
          >{/if}
      </p>
    {/if}
    {#if status.commands}
      <p class="mt-3 {status.commands.listening ? '' : 'text-error'}" data-listening={status.commands.listening}>
        {#if status.commands.listening}Commands are taken since {moment(status.commands.since)}.{:else}<b>Commands are not taken:</b>
          {status.commands.why}{/if}
      </p>
    {/if}
    <p class="mt-3 font-mono text-sm break-all text-base-content/80">{place(outlet.to)}</p>
  </Card>
  {#if may}
    <Tabs {tabs} label="Outlet" />
    {#if currentTab(tabs) === "deliveries"}
      <Deliveries outlet={slug} />
    {:else if currentTab(tabs) === "letters"}
      <DeadLetters outlet={slug} changed={() => void held.load()} />
    {:else if currentTab(tabs) === "commands"}
      <Commands outlet={slug} />
    {:else if currentTab(tabs) === "connect"}
      <Notice text={connecting.problem} />
      {#if connecting.value}<Connect connecting={connecting.value} />{:else if !connecting.problem}<Loading />{/if}
    {:else}
      {#key outlet.revision}<OutletForm {outlet} done={saved} />{/key}
      <Card title="Send again" tag="form" class="mt-6" onsubmit={sendAgain}>
        <p class="mb-2 max-w-prose text-base-content/80">
          Messages from a moment on come once more, with the same ids: the other side tells repetitions by them.
        </p>
        <div class="flex flex-wrap items-end gap-3">
          <Field label="From"><input class="input" type="datetime-local" name="since" bind:value={since} required /></Field>
          <button class="btn" disabled={act.busy}>Send again</button>
          {#if told}<span role="status">{told}</span>{/if}
        </div>
      </Card>
      <div class="mt-6">
        <Confirm
          label="Remove this outlet"
          sure="Remove it"
          what="What waits is not delivered any more, and its dead letters are gone."
          class="btn btn-sm btn-outline btn-error"
          run={remove}
        />
      </div>
    {/if}
  {/if}
{:else if !held.problem}
  <Loading />
{/if}
