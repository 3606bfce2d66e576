<script lang="ts">
  import { goto } from "$app/navigation";
  import { page } from "$app/state";
  import { api, call, every, type Device, type DeviceStranger, type Message } from "#lib/api.ts";
  import BulkEdit from "#lib/components/device/BulkEdit.svelte";
  import DeviceFilters, { FILTERS, type Filter, type Filters } from "#lib/components/device/DeviceFilters.svelte";
  import DeviceTable from "#lib/components/device/DeviceTable.svelte";
  import DeviceForm from "#lib/components/device/DeviceForm.svelte";
  import DeviceStrangers from "#lib/components/device/DeviceStrangers.svelte";
  import DeviceImport from "#lib/components/device/DeviceImport.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { Action, resource, showMore } from "#lib/resource.svelte.ts";
  import RoundForm from "#lib/components/device/RoundForm.svelte";
  import Loading from "#lib/components/common/Loading.svelte";
  import Empty from "#lib/components/common/Empty.svelte";
  import DeviceMap from "#lib/components/device/DeviceMap.svelte";

  /** What is open below the title. */
  let open = $state<"" | "one" | "many">("");
  /** The one that is being adopted. */
  let adopted = $state<DeviceStranger | null>(null);
  /** Those that are to be changed alike. */
  let chosen = $state<string[]>([]);
  type StateName = Device["state"];
  const wanted = $derived(Object.fromEntries(FILTERS.map((name) => [name, page.url.searchParams.get(name) ?? ""])) as Filters);
  const filtered = $derived(FILTERS.some((name) => name !== "sort" && wanted[name]));

  const path = $derived({ estate: session.estate });
  const onMap = $derived(page.url.searchParams.get("view") === "map");

  /** The filters as the service takes them. */
  const filters = $derived.by(() => {
    const { fleet, state, tag, model, profile, find, sort } = wanted;
    const all = { fleet, tag, model, profile, find, sort, state: state as StateName };
    return Object.fromEntries(Object.entries(all).filter(([, value]) => value));
  });

  function fetchPage(after?: string) {
    return call(api.GET("/api/v1/estates/{estate}/devices", { params: { path, query: { limit: 100, after, ...filters } } }));
  }

  function view(map: boolean): string {
    const query = new URLSearchParams(page.url.searchParams.toString());
    if (map) query.set("view", "map");
    else query.delete("view");
    return `?${query}`;
  }

  const held = resource(() => fetchPage(), {
    fold: (page, message) => ({ ...page, items: page.items.map((one) => (one.dev_eui === message.device?.eui ? after(one, message) : one)) }),
    // One registered since this page was opened, if it would be on this page.
    on: ({ device }) => !!device && !next && !filtered && !devices?.some((one) => one.dev_eui === device.eui),
  });
  const devices: Device[] | null = $derived(held.value?.items ?? null);
  const next: string | null = $derived(held.value?.next ?? null);
  const others = resource(
    async () => (session.whole ? await every((query) => call(api.GET("/api/v1/estates/{estate}/devices/strangers", { params: { path, query } }))) : []),
    {
      on: (message) => message.type === "refused" && !message.device,
    },
  );
  const strangers = $derived(others.value ?? []);
  const act = new Action();
  const problem = $derived(act.problem || held.problem);

  const after = (device: Device, message: Message): Device => {
    if (message.type === "join" || message.type === "uplink") return { ...device, state: "active", last_heard: message.time, refusal: null };
    return message.type === "refused" ? { ...device, refusal: message.refusal, state: "refused" } : device;
  };

  async function load() {
    await Promise.all([held.load(), others.load()]);
  }

  // The search leads to one that is to be adopted.
  $effect(() => {
    const wish = page.url.searchParams.get("adopt");
    const meant = strangers.find((stranger) => stranger.dev_eui === wish);
    if (meant && !adopted) adopt(meant);
  });

  function adopt(stranger: DeviceStranger) {
    [adopted, open] = [stranger, "one"];
    scrollTo({ top: 0 });
  }

  const more = () => act.run(() => showMore(held, fetchPage));

  function choose(name: Filter, value: string) {
    const query = new URLSearchParams(page.url.searchParams.toString());
    if (value) query.set(name, value);
    else query.delete(name);
    void goto(`?${query}`, { reset: false, replace: true });
  }

  /** Labels are printed of those that are listed. */
  const labels = $derived(new URLSearchParams(FILTERS.filter((name) => wanted[name]).map((name) => [name, wanted[name]])).toString());
</script>

<svelte:head><title>Devices · Keen Heron</title></svelte:head>

<div class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
  <h1>Devices</h1>
  <div class="join" role="group" aria-label="How devices are shown">
    {#each [false, true] as map (map)}
      <a class="btn join-item btn-sm {map === onMap ? 'border-primary text-primary' : ''}" aria-current={map === onMap ? "page" : undefined} href={view(map)}
        >{map ? "Map" : "List"}</a
      >
    {/each}
  </div>
  <DeviceFilters {wanted} {choose} />
  <span class="flex flex-wrap gap-2 sm:ml-auto">
    {#if session.may("devices")}
      <button
        class="btn btn-sm btn-primary"
        aria-expanded={open === "one"}
        onclick={() => {
          adopted = null;
          open = open === "one" ? "" : "one";
        }}>Register device</button
      >
      <button class="btn btn-sm" class:btn-active={open === "many"} aria-expanded={open === "many"} onclick={() => (open = open === "many" ? "" : "many")}
        >Import</button
      >
    {/if}
    {#if session.whole}
      <a class="btn btn-sm" href="/devices/fleets">Fleets</a>
      <a class="btn btn-sm" href="/devices/rounds">Rounds</a>
      <a class="btn btn-sm" href="/devices/models">Models</a>
      <a class="btn btn-sm" href="/devices/profiles">Profiles</a>
    {/if}
    <a class="btn btn-sm" href="/api/v1/estates/{session.estate}/devices/labels?{labels}" download="labels.pdf">Labels</a>
    <a class="btn btn-sm" href="/api/v1/estates/{session.estate}/devices/export?{labels}" download="devices.csv">Export</a>
  </span>
</div>
{#if open === "one"}<div class="mb-4">
    {#key adopted}<DeviceForm {adopted} done={load} />{/key}
  </div>{/if}
{#if open === "many"}<div class="mb-4"><DeviceImport done={load} /></div>{/if}
<Notice text={problem} />
{#if strangers.length > 0 && session.may("devices")}<DeviceStrangers {strangers} {adopt} />{/if}
{#if chosen.length > 0}
  {#if session.may("devices")}<BulkEdit {chosen} done={load} />{/if}
  {#if session.may("send") && session.whole}<RoundForm devices={chosen} />{/if}
{/if}

{#if devices?.length === 0 && filtered}
  <p class="text-base-content/75">No device matches. <button class="link" onclick={() => goto("/devices")}>Show all</button></p>
{:else if devices?.length === 0}
  <Empty title="No device here yet">
    <p class="my-2">Register one with the EUIs and the key from its label, here or with the client:</p>
    <code class="block rounded-field bg-base-200 p-3 font-mono text-sm">heron device add DEVEUI --name NAME --fleet FLEET --join-eui EUI</code>
  </Empty>
{:else if devices && onMap}
  <DeviceMap {filters} />
{:else if devices}
  <DeviceTable {devices} sort={wanted.sort} bind:chosen {choose} />
  {#if next}
    <button class="btn mt-3" onclick={more}>Show more</button>
  {/if}
{:else if !problem}
  <Loading />
{/if}
