<script lang="ts">
  import { goto } from "$app/navigation";
  import { page } from "$app/state";
  import { api, call, type Message } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import Agreement from "#lib/components/device/Agreement.svelte";
  import Conditions from "#lib/components/common/Conditions.svelte";
  import DeviceKeys from "#lib/components/device/DeviceKeys.svelte";
  import DeviceReadings from "#lib/components/device/DeviceReadings.svelte";
  import DeviceMove from "#lib/components/device/DeviceMove.svelte";
  import DeviceRadio from "#lib/components/device/DeviceRadio.svelte";
  import DevicePlace from "#lib/components/device/DevicePlace.svelte";
  import DeviceSettings from "#lib/components/device/DeviceSettings.svelte";
  import Airtime from "#lib/components/airtime/Airtime.svelte";
  import Findings from "#lib/components/common/Findings.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import Outbox from "#lib/components/device/Outbox.svelte";
  import Rehearse from "#lib/components/device/Rehearse.svelte";
  import DeviceIdentity from "#lib/components/device/DeviceIdentity.svelte";
  import DeviceSignal from "#lib/components/device/DeviceSignal.svelte";
  import DeviceTraffic from "#lib/components/device/DeviceTraffic.svelte";
  import Tabs, { currentTab } from "#lib/components/common/Tabs.svelte";
  import State from "#lib/components/common/State.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { ago, moment, withNews } from "#lib/format.ts";
  import Card from "#lib/components/common/Card.svelte";
  import { resource } from "#lib/resource.svelte.ts";
  import Loading from "#lib/components/common/Loading.svelte";

  /** Frames that are loaded: enough for signal over time. */
  const SHOWN = 100;
  const TABS = [
    { id: "now", label: "Now" },
    { id: "traffic", label: "Traffic" },
    { id: "outbox", label: "Outbox" },
    { id: "setup", label: "Setup" },
  ] as const;
  const eui = $derived(page.params.eui ?? "");
  /** Counts what came in live, so that it can glow and the outbox looks again. */
  let news = $state(0);
  let outboxNews = $state(0);
  /** The stored uplink that is to be rehearsed. */
  let again = $state<string | null>(null);
  const tab = $derived(currentTab(TABS));

  const path = $derived({ estate: session.estate, eui });
  const own = (message: Message) => message.device?.eui === eui;
  const held = resource(() => call(api.GET("/api/v1/estates/{estate}/devices/{eui}", { params: { path } })), { on: own, atMostEveryMs: 0 });
  const diagnosis = resource(() => call(api.GET("/api/v1/estates/{estate}/devices/{eui}/why", { params: { path, query: { limit: 25 } } })), {
    on: own,
    atMostEveryMs: 0,
  });
  const traffic = resource(
    async () => (await call(api.GET("/api/v1/estates/{estate}/traffic", { params: { path, query: { device: eui, limit: SHOWN } } }))).items,
    { fold: (messages, message) => (own(message) ? withNews(messages, message, SHOWN) : messages) },
  );
  const device = $derived(held.value);
  const why = $derived(diagnosis.value);
  const messages = $derived(traffic.value ?? []);
  const problem = $derived(held.problem);

  async function load() {
    await Promise.all([held.load(), diagnosis.load(), traffic.load()]);
    outboxNews += 1;
  }

  // A name in the address is as good as an EUI; the page goes by the EUI.
  $effect(() => {
    if (device && device.dev_eui !== eui) void goto(`/devices/${device.dev_eui}${page.url.search}`, { replaceState: true });
  });

  $effect(() =>
    live.listen(
      (message) => {
        if (!own(message)) return;
        news += 1;
        if (message.type === "downlink") outboxNews += 1;
      },
      () => (outboxNews += 1),
    ),
  );
</script>

<svelte:head><title>{device?.name ?? "Device"} · Keen Heron</title></svelte:head>

<p class="mb-1 text-sm"><a class="link link-hover" href="/devices">Devices</a> ›</p>
<Notice text={problem} />

{#if device}
  <div class="mb-4 flex flex-wrap items-baseline gap-x-5 gap-y-1">
    <h1>{device.name}</h1>
    <State state={device.state} />
    {#if device.last_heard}
      <span title={moment(device.last_heard)}>last heard {ago(device.last_heard, live.now)}</span>
    {:else}
      <span>never heard</span>
    {/if}
    {#if device.usual_interval_s}<span class="text-base-content/75">usually every {Math.round(device.usual_interval_s)} s</span>{/if}
  </div>

  <Tabs tabs={TABS} label="Parts of the device's page" />

  {#if tab === "now"}
    {#if why}<Findings findings={why.findings} />{/if}
    {#if why?.conditions.length}<Conditions conditions={why.conditions} />{/if}
    <!-- Two stacks, so that a short part leaves no hole beside a long one. -->
    <div class="grid items-start gap-5 lg:grid-cols-[1.15fr_1fr]">
      <DeviceReadings {eui} model={device.model} {news} />
      <div class="grid gap-5">
        <DeviceSignal {messages} />
        <Card title="Airtime in the last hour">
          <Airtime bands={device.airtime} />
          <p class="mt-2 text-sm text-base-content/75">
            Last 24 hours: {(device.day_airtime_ms / 1000).toFixed(1)} s on air, {device.day_downlinks} downlinks to it
          </p>
        </Card>
      </div>
    </div>
  {:else if tab === "traffic"}
    <DeviceTraffic
      {messages}
      timeline={why?.timeline ?? []}
      fresh={news > 0}
      rehearse={(id) => {
        again = id;
        void goto("?tab=outbox", { reset: false });
      }}
    />
  {:else if tab === "outbox"}
    <div class="grid items-start gap-5 lg:grid-cols-2">
      <Outbox {eui} news={outboxNews} commands={device.commands ?? null} />
      {#if session.may("send")}<Rehearse {eui} {again} />{/if}
    </div>
  {:else}
    <div class="grid items-start gap-5 lg:grid-cols-[1.15fr_1fr]">
      <div class="grid gap-5">
        {#if session.may("devices")}
          <DeviceSettings {device} done={load} />
          <DevicePlace {device} done={load} />
          <DeviceRadio {device} done={load} />
        {/if}
        {#if device.agreement}<Agreement agreement={device.agreement} />{/if}
      </div>
      <div class="grid gap-5">
        <DeviceIdentity {device} />
        {#if session.may("keys")}<DeviceKeys {eui} />{/if}
        {#if session.may("devices")}<DeviceMove {device} />{/if}
      </div>
    </div>
  {/if}
{:else if !problem}
  <Loading />
{/if}
