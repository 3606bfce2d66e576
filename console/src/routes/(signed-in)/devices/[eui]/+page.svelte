<script lang="ts">
  import { page } from "$app/state";
  import { api, say, type DeviceDetail, type DeviceWhy, type Message } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import Agreement from "#lib/components/device/Agreement.svelte";
  import Conditions from "#lib/components/common/Conditions.svelte";
  import DeviceKeys from "#lib/components/device/DeviceKeys.svelte";
  import DeviceReadings from "#lib/components/device/DeviceReadings.svelte";
  import DeviceRadio from "#lib/components/device/DeviceRadio.svelte";
  import DeviceSettings from "#lib/components/device/DeviceSettings.svelte";
  import Airtime from "#lib/components/airtime/Airtime.svelte";
  import Findings from "#lib/components/common/Findings.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import Outbox from "#lib/components/device/Outbox.svelte";
  import Rehearse from "#lib/components/device/Rehearse.svelte";
  import MessageRow from "#lib/components/traffic/MessageRow.svelte";
  import State from "#lib/components/common/State.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { ago, grouped, moment, withNews } from "#lib/format.ts";

  const SHOWN = 25;
  const eui = $derived(page.params.eui ?? "");
  let device = $state<DeviceDetail | null>(null);
  let messages = $state<Message[]>([]);
  let why = $state<DeviceWhy | null>(null);
  /** Everything, or only what is out of the ordinary. */
  let everything = $state(true);
  let problem = $state("");
  /** Counts what came in live, so that it can glow and the outbox looks again. */
  let news = $state(0);
  let outboxNews = $state(0);
  /** The stored uplink that is to be rehearsed. */
  let again = $state<string | null>(null);
  const shown = $derived(everything ? messages : (why?.timeline ?? []));

  async function loadDevice() {
    const { data, error } = await api.GET("/api/v1/estates/{estate}/devices/{eui}", {
      params: { path: { estate: session.estate, eui } },
    });
    problem = data ? "" : say(error);
    device = data ?? device;
  }

  async function loadWhy() {
    const { data } = await api.GET("/api/v1/estates/{estate}/devices/{eui}/why", {
      params: { path: { estate: session.estate, eui }, query: { limit: SHOWN } },
    });
    why = data ?? why;
  }

  async function load() {
    await Promise.all([loadDevice(), loadWhy()]);
    const { data } = await api.GET("/api/v1/estates/{estate}/traffic", {
      params: { path: { estate: session.estate }, query: { device: eui, limit: SHOWN } },
    });
    messages = data?.items ?? messages;
    outboxNews += 1;
  }

  $effect(() => {
    void eui;
    void load();
    return live.listen((message) => {
      if (message.device?.eui !== eui) return;
      messages = withNews(messages, message, SHOWN);
      news += 1;
      if (message.type === "downlink") outboxNews += 1;
      void loadDevice();
      void loadWhy();
    }, load);
  });
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

  {#if why}<Findings findings={why.findings} />{/if}
  {#if why?.conditions.length}<Conditions conditions={why.conditions} />{/if}

  <!-- Two stacks, so that a short part leaves no hole beside a long one. -->
  <div class="grid items-start gap-5 lg:grid-cols-[1.15fr_1fr]">
    <div class="grid gap-5">
      <DeviceReadings {eui} model={device.model} {news} />

      <Outbox {eui} news={outboxNews} commands={device.commands ?? null} />
      {#if session.may("send")}<Rehearse {eui} {again} />{/if}
      {#if device.agreement}<Agreement agreement={device.agreement} />{/if}
      {#if session.may("devices")}
        <DeviceSettings {device} done={load} />
        <DeviceRadio {device} done={load} />
      {/if}
    </div>
    <div class="grid gap-5">
      <section class="rounded-box border border-base-300 p-4">
        <h2 class="mb-2">Identity and session</h2>
        <dl class="grid grid-cols-[8.5rem_1fr] gap-y-1 [&_dt]:text-base-content/75">
          <dt>DevEUI</dt><dd class="font-mono text-[0.9em]">{grouped(device.dev_eui)}</dd>
          <dt>JoinEUI</dt><dd class="font-mono text-[0.9em]">{grouped(device.join_eui)}</dd>
          <dt>Fleet</dt><dd><a class="link link-hover" href="/devices?fleet={device.fleet}">{device.fleet}</a></dd>
          <dt>Model</dt><dd>{#if device.model}<a class="link link-hover" href="/decoders/{device.model}">{device.model}</a>{:else}none{/if}</dd>
          <dt>Radio profile</dt><dd>{device.profile ?? "none"}</dd>
          {#if device.tags.length > 0}
            <dt>Tags</dt>
            <dd class="flex flex-wrap gap-1">{#each device.tags as tag (tag)}<a class="badge badge-ghost badge-sm" href="/devices?tag={tag}">{tag}</a>{/each}</dd>
          {/if}
          {#if device.firmware || device.hardware}
            <dt>Versions</dt><dd>{[device.hardware && `hardware ${device.hardware}`, device.firmware && `firmware ${device.firmware}`].filter(Boolean).join(", ")}</dd>
          {/if}
          <dt>Region</dt><dd>{device.region}</dd>
          <dt>Link layer</dt>
          <dd>LoRaWAN {device.whole_radio.mac_version ?? "1.0.3"}, class {device.class}, {device.personalized ? "personalized (ABP)" : "joins (OTAA)"}</dd>
          {#if device.next_session}
            <dt>Next session</dt>
            <dd>DevAddr <span class="font-mono text-[0.9em]">{device.next_session.dev_addr}</span>, begins with its first uplink</dd>
          {/if}
          {#if device.session}
            <dt>DevAddr</dt><dd class="font-mono text-[0.9em]">{device.session.dev_addr}</dd>
            <dt>{device.personalized ? "Session since" : "Joined"}</dt><dd title={moment(device.session.joined_at)}>{ago(device.session.joined_at, live.now)}</dd>
            <dt>Last FCntUp</dt><dd class="tabular-nums">{device.session.last_counter_up ?? "none yet"}</dd>
            <dt>Next FCntDown</dt>
            <dd class="tabular-nums">
              {device.session.next_counter_down}{device.session.next_app_counter_down != null ? `, application ${device.session.next_app_counter_down}` : ""}
            </dd>
          {:else if !device.next_session}
            <dt>Session</dt><dd>none: it has not joined</dd>
          {/if}
        </dl>
      </section>

      {#if session.may("keys")}<DeviceKeys {eui} />{/if}

      <section class="rounded-box border border-base-300 p-4">
        <h2 class="mb-2">Airtime in the last hour</h2>
        <Airtime bands={device.airtime} />
        <p class="mt-2 text-sm text-base-content/75">
          Last 24 hours: {(device.day_airtime_ms / 1000).toFixed(1)} s on air, {device.day_downlinks} downlinks to it
        </p>
      </section>
    </div>
  </div>

  <section class="mt-6">
    <div class="mb-1 flex flex-wrap items-baseline gap-4">
      <h2>{everything ? "Last frames" : "Timeline"}</h2>
      <div class="join" role="group" aria-label="What is listed">
        <button class="btn join-item btn-xs" class:btn-active={everything} aria-pressed={everything} onclick={() => (everything = true)}>everything</button>
        <button class="btn join-item btn-xs" class:btn-active={!everything} aria-pressed={!everything} onclick={() => (everything = false)}>out of the ordinary</button>
      </div>
    </div>
    {#if shown.length === 0}
      <p class="text-base-content/75">Nothing was heard of it yet.</p>
    {:else}
      <ul class="border-t border-base-300">
        {#each shown as message, i (message.id)}
          <MessageRow {message} named={false} fresh={i === 0 && news > 0} rehearse={(id) => { again = id; document.getElementById("rehearse")?.scrollIntoView({ block: "center" }); }} />
        {/each}
      </ul>
    {/if}
  </section>
{:else if !problem}
  <p class="text-base-content/75">Asking…</p>
{/if}
