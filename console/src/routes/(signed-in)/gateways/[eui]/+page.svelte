<script lang="ts">
  import { goto } from "$app/navigation";
  import { page } from "$app/state";
  import { api, call, type Message } from "#lib/api.ts";
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
  import Card from "#lib/components/common/Card.svelte";
  import { Action, resource } from "#lib/resource.svelte.ts";
  import Loading from "#lib/components/common/Loading.svelte";

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
  /** Changes when something may have happened. */
  let happened = $state("");

  /** Whether a message went through the gateway, up or down. */
  function through(message: Message): boolean {
    if ("heard_by" in message) return message.heard_by.some((copy) => copy.gateway === eui);
    return message.type === "downlink" && message.sent?.gateway === eui;
  }

  const path = $derived({ estate: session.estate, eui });
  const own = (message: Message) => (message.type === "gateway" ? message.gateway === eui : through(message));
  const held = resource(() => call(api.GET("/api/v1/estates/{estate}/gateways/{eui}", { params: { path } })), { on: own });
  const traffic = resource(
    async () => {
      const page = await call(api.GET("/api/v1/estates/{estate}/traffic", { params: { path, query: { limit: LOOKED_AT } } }));
      return page.items.filter(through).slice(0, SHOWN);
    },
    { fold: (messages, message) => (message.type !== "gateway" && through(message) ? withNews(messages, message, SHOWN) : messages) },
  );
  const act = new Action();
  const gateway = $derived(held.value);
  const messages = $derived(traffic.value ?? []);
  const problem = $derived(act.problem || held.problem);

  // A name in the address is as good as an EUI; the page goes by the EUI.
  $effect(() => {
    if (gateway && gateway.eui !== eui) void goto(`/gateways/${gateway.eui}${page.url.search}`, { replaceState: true });
  });

  $effect(() =>
    live.listen(
      (message) => {
        if (message.type === "gateway" && own(message)) happened = `${message.state} ${Math.floor(Date.now() / 10_000)}`;
      },
      () => {},
    ),
  );

  const askAgain = () =>
    act.run(async () => {
      await call(api.DELETE("/api/v1/estates/{estate}/gateways/{eui}/refused-frequencies", { params: { path } }));
      await held.load();
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
      <Card title="Airtime in the last hour">
        <Airtime bands={gateway.airtime} />
      </Card>
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
    <GatewayForm {gateway} done={() => void held.load()} />
  {/if}
{:else if !problem}
  <Loading />
{/if}
