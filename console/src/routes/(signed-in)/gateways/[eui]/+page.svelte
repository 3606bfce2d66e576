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
  import GatewayStatus from "#lib/components/gateway/GatewayStatus.svelte";
  import GatewayTrouble from "#lib/components/gateway/GatewayTrouble.svelte";
  import MessageList from "#lib/components/traffic/MessageList.svelte";
  import Tabs, { currentTab } from "#lib/components/common/Tabs.svelte";
  import State from "#lib/components/common/State.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { ago, grouped, moment, withNews } from "#lib/format.ts";

  const SHOWN = 50;
  const TABS = [
    { id: "now", label: "Now" },
    { id: "traffic", label: "Traffic" },
    { id: "connection", label: "Connection" },
    { id: "setup", label: "Setup" },
  ] as const;
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

  const tab = $derived(currentTab(TABS));
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

  <Tabs tabs={TABS} label="Parts of the gateway's page" />

  {#if tab === "now"}
    <GatewayTrouble {gateway} />
    {#if gateway.off_plan_mhz.length > 0}
      <div class="mb-5">
        <Notice
          text="It hears frames on {gateway.off_plan_mhz.join(
            ', ',
          )} MHz, which are no channels of {gateway.region}: compare the channel plan set in the gateway with the region it is registered for."
        />
      </div>
    {/if}

    {#if gateway.refused_frequencies?.length}
      <div class="mb-5">
        <Notice
          text="It has refused to send on {gateway.refused_frequencies
            .map((r) => `${r.frequency_mhz} MHz (since ${moment(r.since)}, asked again at ${moment(r.until)})`)
            .join(', ')}. Other gateways send there meanwhile. Compare the gateway's own frequency limits with its region."
        />
        {#if session.may("gateways")}<button class="btn btn-sm mt-2" type="button" onclick={() => void askAgain()}>Try them again now</button>{/if}
      </div>
    {/if}

    {#if gateway.state !== "listening"}<div class="mb-5"><GatewayEvents {eui} fresh={happened} /></div>{/if}
    <div class="mb-5 grid grid-cols-1 items-start gap-5 lg:grid-cols-2">
      <GatewayStatus {gateway} />
      <section class="rounded-box border border-base-300 p-4">
        <h2 class="mb-2">Airtime in the last hour</h2>
        <Airtime bands={gateway.airtime} />
      </section>
    </div>
    <GatewayReception {eui} />
  {:else if tab === "traffic"}
    {#if messages.length === 0}
      <p class="text-base-content/75">No recent frames.</p>
    {:else}
      <MessageList {messages} />
    {/if}
  {:else if tab === "connection"}
    <div class="grid grid-cols-1 items-start gap-5 lg:grid-cols-2">
      {#if session.may("gateways")}<GatewayAccess {gateway} />{/if}
      <GatewayEvents {eui} fresh={happened} />
    </div>
  {:else if session.may("gateways")}
    <GatewayForm {gateway} done={() => void loadGateway()} />
  {/if}
{:else if !problem}
  <p class="text-base-content/75">Loading…</p>
{/if}
