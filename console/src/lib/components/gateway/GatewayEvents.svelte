<!-- What happened to a gateway, the latest first. -->
<script lang="ts">
  import { api, call, type GatewayEvent } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { ago, moment } from "#lib/format.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import State from "#lib/components/common/State.svelte";
  import Card from "#lib/components/common/Card.svelte";
  import { Action, resource, type Resource } from "#lib/resource.svelte.ts";
  import { untrack } from "svelte";

  let { eui, fresh }: { eui: string; fresh: unknown } = $props();

  type EventPage = Awaited<ReturnType<typeof fetchPage>>;
  const PAGE = 12;

  const fetchPage = (after?: string) =>
    call(api.GET("/api/v1/estates/{estate}/gateways/{eui}/events", { params: { path: { estate: session.estate, eui }, query: { limit: PAGE, after } } }));
  const held: Resource<EventPage> = resource(() => {
    void fresh;
    // Who has turned pages is not thrown back.
    const turned = untrack(() => (held.value && held.value.items.length > PAGE ? held.value : null));
    return turned ? Promise.resolve(turned) : fetchPage();
  });
  const act = new Action();
  const events: GatewayEvent[] = $derived(held.value?.items ?? []);
  const next: string | null = $derived(held.value?.next ?? null);
  const problem: string = $derived(act.problem || held.problem);

  const earlier = () =>
    act.run(async () => {
      const page = await fetchPage(next ?? undefined);
      held.value = { ...page, items: [...events, ...page.items] };
    });
</script>

<Card title="Events" data-events>
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
    {#if next}<button class="btn btn-sm mt-2" type="button" onclick={earlier}>Earlier</button>{/if}
  {/if}
</Card>
