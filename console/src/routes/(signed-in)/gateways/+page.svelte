<script lang="ts">
  import { api, call, every, type Gateway, type Stranger } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import GatewayForm from "#lib/components/gateway/GatewayForm.svelte";
  import GatewayImport from "#lib/components/gateway/GatewayImport.svelte";
  import PlaceMap from "#lib/components/common/PlaceMap.svelte";
  import Endings from "#lib/components/gateway/Endings.svelte";
  import Strangers from "#lib/components/gateway/Strangers.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import State from "#lib/components/common/State.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { ago, fullest, grouped, moment, WAYS } from "#lib/format.ts";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import { resource } from "#lib/resource.svelte.ts";
  import Loading from "#lib/components/common/Loading.svelte";
  import Empty from "#lib/components/common/Empty.svelte";

  let adopting = $state<Stranger | null>(null);
  /** What is open below the title. */
  let panel = $state<"" | "register" | "import">("");

  function show(which: "register" | "import") {
    panel = panel === which ? "" : which;
    adopting = null;
  }

  function adopt(stranger: Stranger) {
    [adopting, panel] = [stranger, "register"];
    scrollTo({ top: 0 });
  }

  const after = (gateway: Gateway, { state, time }: { state: Gateway["state"]; time: string }): Gateway => ({
    ...gateway,
    state,
    last_heard: state === "listening" ? time : gateway.last_heard,
  });

  const path = $derived({ estate: session.estate });
  const held = resource(
    async () => {
      const [gateways, strangers, endings] = await Promise.all([
        call(api.GET("/api/v1/estates/{estate}/gateways", { params: { path, query: { limit: 500 } } })),
        every((query) => call(api.GET("/api/v1/estates/{estate}/strangers", { params: { path, query } }))),
        call(api.GET("/api/v1/estates/{estate}/endings", { params: { path } })),
      ]);
      return { gateways: gateways.items, strangers, endings };
    },
    {
      fold: (value, message) =>
        message.type === "gateway" ? { ...value, gateways: value.gateways.map((one) => (one.eui === message.gateway ? after(one, message) : one)) } : value,
      // An unregistered gateway's first connection, or one registered since this page was opened.
      on: (message) => message.type === "gateway" && !gateways?.some((one) => one.eui === message.gateway),
      // Unregistered gateways are counted without news of each call.
      everyMs: 15_000,
    },
  );
  const gateways: Gateway[] | null = $derived(held.value?.gateways ?? null);
  const strangers = $derived(held.value?.strangers ?? []);
  const endings = $derived(held.value?.endings ?? null);
  const problem = $derived(held.problem);

  const placed = $derived(
    (gateways ?? []).flatMap(({ name, state, latitude_deg, longitude_deg, eui }) =>
      latitude_deg != null && longitude_deg != null ? [{ name, state, latitude_deg, longitude_deg, href: `/gateways/${eui}` }] : [],
    ),
  );
</script>

<svelte:head><title>Gateways · Keen Heron</title></svelte:head>

<div class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
  <h1>Gateways</h1>
  {#if session.may("gateways")}
    <div class="ml-auto flex flex-wrap gap-2">
      <button class="btn btn-sm btn-primary" type="button" aria-expanded={panel === "register"} onclick={() => show("register")}>Register gateway</button>
      <button class="btn btn-sm" type="button" aria-expanded={panel === "import"} onclick={() => show("import")}>Import</button>
    </div>
  {/if}
</div>
<Notice text={problem} />
{#if panel === "register"}
  <div class="mb-5">
    <GatewayForm
      stranger={adopting}
      done={() => {
        [adopting, panel] = [null, ""];
        void held.load();
      }}
      cancel={() => {
        [adopting, panel] = [null, ""];
      }}
    />
  </div>
{:else if panel === "import"}
  <div class="mb-5"><GatewayImport done={() => void held.load()} /></div>
{/if}
{#if endings}<Endings {endings} />{/if}

{#if gateways?.length === 0}
  <Empty title="No gateway is registered yet">
    <p class="mt-2">
      Point a gateway's packet forwarder at this machine, UDP port 1700: it appears below as a stranger, ready to adopt. Or register it first and create a
      connection kit, for any protocol.
    </p>
  </Empty>
{:else if gateways}
  <DataTable class=""
    >{#snippet head()}<th>Name</th><th>State</th><th>Last heard</th><th class="hidden sm:table-cell">EUI</th><th class="hidden text-right sm:table-cell"
        >Heard</th
      ><th class="hidden text-right md:table-cell">Sent</th><th class="hidden sm:table-cell">Airtime left</th><th class="hidden lg:table-cell">Connection</th
      ><th class="hidden md:table-cell">Address</th>{/snippet}
    {#each gateways as gateway (gateway.eui)}
      {@const band = fullest(gateway.airtime)}
      <tr data-gateway={gateway.name}>
        <td class="font-semibold whitespace-nowrap">
          <a class="link-hover" href="/gateways/{gateway.eui}">{gateway.name}</a>
          <span class="block font-mono text-[0.75em] font-normal sm:hidden">{grouped(gateway.eui)}</span>
        </td>
        <td><State state={gateway.state} /></td>
        <td class="whitespace-nowrap tabular-nums" title={gateway.last_heard ? moment(gateway.last_heard) : ""}>{ago(gateway.last_heard, live.now)}</td>
        <td class="hidden font-mono text-[0.85em] whitespace-nowrap sm:table-cell">{grouped(gateway.eui)}</td>
        <td class="hidden text-right tabular-nums sm:table-cell">{gateway.frames}</td>
        <td class="hidden text-right tabular-nums md:table-cell">{gateway.airtime.reduce((sum, used) => sum + used.frames, 0)}</td>
        <td class="hidden whitespace-nowrap sm:table-cell">
          {#if band}{(100 - band.used_percent).toFixed(2)} % of sub-band {band.sub_band}{:else}<span class="text-base-content/75">all</span>{/if}
        </td>
        <td class="hidden lg:table-cell">{WAYS[gateway.protocol]}</td>
        <td class="hidden md:table-cell {gateway.address ? 'font-mono text-[0.85em]' : ''}"
          >{gateway.address ?? (gateway.protocol === "mqtt" ? "the broker" : "–")}</td
        >
      </tr>
    {/each}
  </DataTable>
{:else if !problem}
  <Loading />
{/if}

{#if placed.length > 0}
  <section class="mt-5"><PlaceMap points={placed} /></section>
{/if}

<Strangers {strangers} {adopt} />
