<script lang="ts">
  import { page } from "$app/state";
  import { api, say, type Gateway, type Message } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import Airtime from "#lib/components/airtime/Airtime.svelte";
  import GatewayAccess from "#lib/components/gateway/GatewayAccess.svelte";
  import GatewayEvents from "#lib/components/gateway/GatewayEvents.svelte";
  import GatewayForm from "#lib/components/gateway/GatewayForm.svelte";
  import GatewayReception from "#lib/components/gateway/GatewayReception.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import MessageRow from "#lib/components/traffic/MessageRow.svelte";
  import State from "#lib/components/common/State.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { ago, grouped, moment, PROTOCOLS, withNews } from "#lib/format.ts";

  const SHOWN = 15;
  /** Of the estate's last messages, those that went through this gateway are shown. */
  const LOOKED_AT = 200;
  const eui = $derived(page.params.eui ?? "");
  let gateway = $state<Gateway | null>(null);
  let messages = $state<Message[]>([]);
  let problem = $state("");
  let asked = 0;
  /** Changes when something may have happened. */
  let happened = $state("");

  /** Whether a message went through the gateway, up or down. */
  function through(message: Message): boolean {
    if ("heard_by" in message) return message.heard_by.some((copy) => copy.gateway === eui);
    return message.type === "downlink" && message.sent?.gateway === eui;
  }

  async function loadGateway() {
    asked = Date.now();
    const { data, error } = await api.GET("/api/v1/estates/{estate}/gateways/{eui}", {
      params: { path: { estate: session.estate, eui } },
    });
    problem = data ? "" : say(error);
    gateway = data ?? gateway;
  }

  async function askAgain() {
    const { error } = await api.DELETE("/api/v1/estates/{estate}/gateways/{eui}/refused-frequencies", {
      params: { path: { estate: session.estate, eui } },
    });
    problem = error ? say(error) : "";
    await loadGateway();
  }

  async function load() {
    await loadGateway();
    const { data } = await api.GET("/api/v1/estates/{estate}/traffic", {
      params: { path: { estate: session.estate }, query: { limit: LOOKED_AT } },
    });
    messages = (data?.items ?? []).filter(through).slice(0, SHOWN);
  }

  $effect(() => {
    void eui;
    void load();
    return live.listen((message) => {
      const own = message.type === "gateway" ? message.gateway === eui : through(message);
      if (!own) return;
      if (message.type !== "gateway") messages = withNews(messages, message, SHOWN);
      if (message.type === "gateway") happened = `${message.state} ${Math.floor(Date.now() / 10_000)}`;
      if (Date.now() - asked > 3000) void loadGateway();
    }, load);
  });

  const report = $derived(gateway?.report ?? null);
</script>

<svelte:head><title>{gateway?.name ?? "Gateway"} · Keen Heron</title></svelte:head>

<p class="mb-1 text-sm"><a class="link link-hover" href="/gateways">Gateways</a> ›</p>
<Notice text={problem} />

{#if gateway}
  <div class="mb-4 flex flex-wrap items-baseline gap-x-5 gap-y-1">
    <h1>{gateway.name}</h1>
    <State state={gateway.state} />
    {#if gateway.last_heard}
      <span title={moment(gateway.last_heard)}>last heard {ago(gateway.last_heard, live.now)}</span>
    {/if}
    <span class="font-mono text-[0.9em]">{grouped(gateway.eui)}</span>
  </div>

  {#if gateway.state === "never_heard"}
    <section class="mb-5 rounded-box border border-base-300 p-4">
      <h2>Not a word from it yet</h2>
      <p class="mt-1">Look at these, in this order:</p>
      <ol class="mt-1 list-decimal pl-6">
        <li>Is it switched on, and does its network reach this machine?</li>
        {#if gateway.protocol === "udp"}
          <li>Does its packet forwarder call the address and the UDP port on the sheet of its connection kit?</li>
          <li>Does a firewall let that port through, and the answers back?</li>
          {#if gateway.udp_source}<li>Does it call from {gateway.udp_source}? From elsewhere its datagrams are not taken.</li>{/if}
        {:else}
          <li>Does it have the files of its connection kit, all of them and no others of the same names?</li>
          <li>Does a firewall let it through to the address on the kit's sheet?</li>
          <li>Does it know the date? A clock of 1970 takes every certificate for one of the future.</li>
        {/if}
        <li>Was it turned away? Below, under What happened, each attempt stands with its reason.</li>
        <li>Does it call under another EUI? Then it is among the strangers on the page of gateways.</li>
      </ol>
    </section>
  {/if}

  {#if gateway.state === "quiet" || gateway.state === "lost"}
    <section class="mb-5 rounded-box border border-base-300 p-4">
      <h2>Nothing comes from it</h2>
      <p class="mt-1">It was last heard {ago(gateway.last_heard, live.now)}{gateway.address ? `, from ${gateway.address}` : ""}. Look at these, in this order:</p>
      <ol class="mt-1 list-decimal pl-6">
        <li>Under What happened: was it turned away, or did its connection end, and why?</li>
        <li>Has it power, and does its network still reach this machine?</li>
        <li>Are other gateways at the same place quiet as well? Then it is the network there.</li>
      </ol>
    </section>
  {/if}
  {#if gateway.off_plan_mhz.length > 0}
    <div class="mb-5"><Notice text="It hears frames on {gateway.off_plan_mhz.join(', ')} MHz, which are no channels of {gateway.region}: compare the channel plan set in the gateway with the region it is registered for." /></div>
  {/if}

  {#if gateway.refused_frequencies?.length}
    <div class="mb-5">
      <Notice text="It has refused to send on {gateway.refused_frequencies.map((r) => `${r.frequency_mhz} MHz (since ${moment(r.since)}, asked again at ${moment(r.until)})`).join(', ')}. Other gateways send there meanwhile. Compare the gateway's own frequency limits with its region." />
      {#if session.may("gateways")}<button class="btn btn-sm mt-2" type="button" onclick={() => void askAgain()}>Ask it again now</button>{/if}
    </div>
  {/if}

  <!-- Why it is not there is what one looks for first. -->
  {#if gateway.state !== "listening"}{@render access(gateway)}{/if}

  <div class="mb-5 grid grid-cols-1 items-start gap-5 lg:grid-cols-2">
    <section class="rounded-box border border-base-300 p-4" data-report>
      <h2 class="mb-2">What it says of itself</h2>
      {#if report}
        <dl class="grid grid-cols-[9rem_1fr] gap-y-1">
          <dt class="text-base-content/75">Last report</dt><dd>{ago(report.at, live.now)}, {report.reports} since the service started</dd>
          <dt class="text-base-content/75">Received</dt><dd class="tabular-nums">{report.received} frames, {report.crc_bad} with a wrong CRC</dd>
          <dt class="text-base-content/75">Forwarded</dt><dd class="tabular-nums">{report.forwarded}</dd>
          <dt class="text-base-content/75">Sent</dt><dd class="tabular-nums">{report.sent}</dd>
          {#if report.acknowledged_percent != null}
            <dt class="text-base-content/75">Acknowledged</dt><dd class="tabular-nums">{report.acknowledged_percent} % of its datagrams</dd>
          {/if}
          <dt class="text-base-content/75">Its GPS</dt>
          <dd class="tabular-nums">{report.latitude_deg != null && report.longitude_deg != null ? `${report.latitude_deg.toFixed(5)}, ${report.longitude_deg.toFixed(5)}` : "tells no position"}{gateway.has_gps ? ", and gives it time" : ""}</dd>
          {#if report.clock}<dt class="text-base-content/75">Its clock</dt><dd>{report.clock}</dd>{/if}
        </dl>
      {:else}
        <p class="text-base-content/75">{gateway.protocol === "lns" ? "By WebSocket gateways do not report counters." : "It has not reported since the service started."}</p>
      {/if}
      <dl class="mt-2 grid grid-cols-[9rem_1fr] gap-y-1">
        <dt class="text-base-content/75">Calls by</dt><dd>{PROTOCOLS[gateway.protocol]}, channels {gateway.channels}</dd>
        <dt class="text-base-content/75">Calls from</dt><dd class={gateway.address ? "font-mono text-[0.9em]" : ""}>{gateway.address ?? (gateway.protocol === "mqtt" ? "behind the broker" : "not known")}</dd>
        <dt class="text-base-content/75">There and back</dt>
        <dd class="tabular-nums">{gateway.delay ? `${gateway.delay.round_trip_ms.toFixed(1)} ms, ± ${gateway.delay.jitter_ms.toFixed(1)} ms` : "not measured yet"}</dd>
        {#if gateway.software}
          <dt class="text-base-content/75">Software</dt>
          <dd>{[gateway.software.program, gateway.software.model, gateway.software.firmware, gateway.software.package].filter((text) => text).join(", ")}</dd>
        {/if}
        {#if gateway.description}<dt class="text-base-content/75">Description</dt><dd>{gateway.description}</dd>{/if}
      </dl>
    </section>
    <section class="rounded-box border border-base-300 p-4">
      <h2 class="mb-2">Airtime in the last hour</h2>
      <Airtime bands={gateway.airtime} />
    </section>
  </div>

  <div class="mb-5"><GatewayReception {eui} /></div>
  {#if gateway.state === "listening"}{@render access(gateway)}{/if}
  {#if session.may("gateways")}<div class="mb-6"><GatewayForm {gateway} done={() => void loadGateway()} /></div>{/if}

  <h2 class="mb-2">Last frames through it</h2>
  {#if messages.length === 0}
    <p class="text-base-content/75">None lately.</p>
  {:else}
    <ul class="border-t border-base-300">
      {#each messages as message (message.id)}<MessageRow {message} />{/each}
    </ul>
  {/if}
{:else if !problem}
  <p class="text-base-content/75">Asking…</p>
{/if}

{#snippet access(gateway: Gateway)}
  <div class="mb-5 grid grid-cols-1 items-start gap-5 lg:grid-cols-2">
    {#if session.may("gateways")}<GatewayAccess {gateway} />{/if}
    <GatewayEvents {eui} fresh={happened} />
  </div>
{/snippet}
