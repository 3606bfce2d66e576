<!-- What happened to a gateway, the latest first. -->
<script lang="ts">
  import { api, say, type GatewayEvent } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { ago, moment } from "#lib/format.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import State from "#lib/components/common/State.svelte";

  let { eui, fresh }: { eui: string; fresh: unknown } = $props();

  const PAGE = 12;
  let events = $state<GatewayEvent[]>([]);
  let next = $state<string | null>(null);
  let problem = $state("");

  async function load(after: string | null) {
    const { data, error } = await api.GET("/api/v1/estates/{estate}/gateways/{eui}/events", {
      params: { path: { estate: session.estate, eui }, query: { limit: PAGE, ...(after ? { after } : {}) } },
    });
    problem = data ? "" : say(error);
    if (!data) return;
    events = after ? [...events, ...data.items] : data.items;
    next = data.next ?? null;
  }

  $effect(() => {
    void eui;
    void fresh;
    // Who has turned pages is not thrown back.
    if (events.length <= PAGE) void load(null);
  });
</script>

<section class="rounded-box border border-base-300 p-4" data-events>
  <h2 class="mb-2">Events</h2>
  <Notice text={problem} />
  {#if events.length === 0}
    <p class="max-w-prose text-base-content/75">
      No events yet. If the gateway is running, nothing has reached the service: check the server address set in it, and the firewall.
    </p>
  {:else}
    <ul>
      {#each events as event (event.id)}
        <li class="grid grid-cols-[7.5rem_1fr] gap-x-3 border-t border-base-300 py-1.5 first:border-t-0">
          <span>
            <State state={event.kind === "state" ? (event.state ?? "state") : event.kind} />
            <span class="block text-xs text-base-content/75" title={moment(event.time)}>{ago(event.time, live.now)}</span>
          </span>
          <span>
            {event.text}
            {#if event.address}<span class="font-mono text-[0.8em] text-base-content/75">{event.address}</span>{/if}
            {#if event.next}<span class="block text-sm text-base-content/80">Next: {event.next}</span>{/if}
          </span>
        </li>
      {/each}
    </ul>
    {#if next}<button class="btn btn-sm mt-2" type="button" onclick={() => load(next)}>Earlier</button>{/if}
  {/if}
</section>
