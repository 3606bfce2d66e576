<script lang="ts">
  import { goto } from "$app/navigation";
  import { page } from "$app/state";
  import { api, say, type Device } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import Notice from "#lib/parts/Notice.svelte";
  import State from "#lib/parts/State.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { ago, grouped, moment } from "#lib/words.ts";

  let devices = $state<Device[] | null>(null);
  let fleets = $state<string[]>([]);
  let next = $state<string | null>(null);
  let problem = $state("");
  const fleet = $derived(page.url.searchParams.get("fleet") ?? "");

  async function fetchPage(after?: string) {
    const { data, error } = await api.GET("/api/v1/estates/{estate}/devices", {
      params: { path: { estate: session.estate }, query: { limit: 100, after, fleet: fleet || undefined } },
    });
    problem = data ? "" : say(error as never);
    return data;
  }

  async function load() {
    const data = await fetchPage();
    if (!data) return;
    devices = data.items;
    next = data.next ?? null;
  }

  async function more() {
    const data = await fetchPage(next ?? undefined);
    if (!data) return;
    devices = [...(devices ?? []), ...data.items];
    next = data.next ?? null;
  }

  function show(slug: string) {
    void goto(slug ? `?fleet=${slug}` : "?", { reset: false, replace: true });
  }

  $effect(() => {
    void api
      .GET("/api/v1/estates/{estate}/fleets", { params: { path: { estate: session.estate }, query: { limit: 500 } } })
      .then(({ data }) => (fleets = data?.items.map((f) => f.slug) ?? []));
  });

  $effect(() => {
    void fleet;
    void load();
    return live.listen((message) => {
      if (!message.device) return;
      const device = devices?.find((d) => d.dev_eui === message.device?.eui);
      if (!device) {
        // One registered since this page was opened; of another page or fleet it is none of ours.
        if (!next && (!fleet || message.fleet === fleet)) void load();
        return;
      }
      if (message.type === "join" || message.type === "uplink") {
        device.state = "active";
        device.last_heard = message.time;
        device.refusal = null;
      } else if (message.type === "refused") {
        device.refusal = message.refusal;
        device.state = "refused";
      }
    }, load);
  });
</script>

<svelte:head><title>Devices · Keen Heron</title></svelte:head>

<div class="mb-3 flex flex-wrap items-center gap-4">
  <h1>Devices</h1>
  <label class="flex items-center gap-2">
    <span>Fleet</span>
    <select class="select select-sm w-48" value={fleet} onchange={(e) => show(e.currentTarget.value)}>
      <option value="">all</option>
      {#each fleets as slug (slug)}<option value={slug}>{slug}</option>{/each}
    </select>
  </label>
</div>
<Notice text={problem} />

{#if devices?.length === 0}
  <section class="rounded-box border border-base-300 p-6">
    <h2>No device here yet</h2>
    <p class="my-2">Register one with the EUIs and the key from its label:</p>
    <code class="block rounded-field bg-base-200 p-3 font-mono text-sm">heron device add DEVEUI --name NAME --fleet FLEET --join-eui EUI</code>
  </section>
{:else if devices}
  <div class="overflow-x-auto">
    <table class="table">
      <thead>
        <tr><th>Name</th><th>State</th><th>Last heard</th><th class="hidden sm:table-cell">Fleet</th><th class="hidden md:table-cell">Model</th><th class="hidden md:table-cell">DevEUI</th></tr>
      </thead>
      <tbody>
        {#each devices as device (device.dev_eui)}
          <tr class={device.refusal ? "border-transparent" : ""} data-device={device.name}>
            <td><a class="link font-semibold whitespace-nowrap link-hover" href="/devices/{device.dev_eui}">{device.name}</a></td>
            <td><State state={device.state} /></td>
            <td class="whitespace-nowrap tabular-nums" title={device.last_heard ? moment(device.last_heard) : ""}>{ago(device.last_heard, live.now)}</td>
            <td class="hidden sm:table-cell">{device.fleet}</td>
            <td class="hidden md:table-cell">{device.model ?? "–"}</td>
            <td class="hidden font-mono text-[0.85em] whitespace-nowrap md:table-cell">{grouped(device.dev_eui)}</td>
          </tr>
          {#if device.refusal}
            <tr>
              <td colspan="6" class="pt-0">
                <div class="border-l-4 border-error/60 pl-3">
                  <p>{device.refusal.why} <span class="text-base-content/75">({ago(device.refusal.time, live.now)})</span></p>
                  <p><b>Next:</b> {device.refusal.next_step}</p>
                </div>
              </td>
            </tr>
          {/if}
        {/each}
      </tbody>
    </table>
  </div>
  {#if next}
    <button class="btn mt-3" onclick={more}>Show more</button>
  {/if}
{:else if !problem}
  <p class="text-base-content/75">Asking…</p>
{/if}
