<script lang="ts">
  import { api, call } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import { ago, moment } from "#lib/format.ts";
  import { session } from "#lib/session.svelte.ts";
  import { resource } from "#lib/resource.svelte.ts";
  import Words from "#lib/components/common/Words.svelte";
  import Loading from "#lib/components/common/Loading.svelte";
  import Empty from "#lib/components/common/Empty.svelte";

  const EVERY_MS = 15_000;
  // A gateway that comes or goes and a device that is refused show at once.
  const held = resource(() => call(api.GET("/api/v1/estates/{estate}/watch", { params: { path: { estate: session.estate } } })), {
    on: (message) => ["gateway", "refused", "join"].includes(message.type),
    everyMs: EVERY_MS,
  });
  const watch = $derived(held.value);
  const problem = $derived(held.problem);

  const marks = {
    trouble: { sign: "✕", word: "trouble", tone: "text-error" },
    attention: { sign: "!", word: "attention", tone: "text-warning" },
    fine: { sign: "✓", word: "fine", tone: "text-success" },
  };
</script>

<svelte:head><title>Watch · Keen Heron</title></svelte:head>

<h1 class="mb-3">Watch</h1>
<Notice text={problem} />

{#if watch}
  <div class="mb-5 flex flex-wrap gap-x-8 gap-y-1">
    {#if watch.gateways_listening == null || watch.devices_active == null}
      <span
        ><b class="tabular-nums">{watch.gateways}</b> gateways and <b class="tabular-nums">{watch.devices}</b> devices; their state is not known while the database
        is away</span
      >
    {:else}
      {#if session.whole}<a class="link-hover" href="/gateways"
          ><b class="tabular-nums">{watch.gateways_listening} of {watch.gateways}</b> gateways are listening</a
        >{/if}
      <a class="link-hover" href="/devices"><b class="tabular-nums">{watch.devices_active} of {watch.devices}</b> devices are active</a>
    {/if}
    {#if watch.strangers > 0}<a class="link-hover" href="/gateways"
        ><b class="tabular-nums">{watch.strangers}</b> {watch.strangers === 1 ? "unregistered gateway connects" : "unregistered gateways connect"}</a
      >{/if}
  </div>
  {#if watch.gateways === 0 && session.whole}
    <Empty title="Nothing to watch yet">
      <p class="mt-2">Begin with a <a class="link" href="/gateways">gateway</a>: register it, or let it call and adopt it.</p>
    </Empty>
  {:else if watch.concerns.length === 0}
    <section class="rounded-box border border-base-300 p-6" data-concerns>
      <h2 class="text-success">✓ Nothing needs attention</h2>
      <p class="mt-2 text-base-content/80">Quiet gateways, refused or overdue devices and expiring credentials appear here, gravest first.</p>
    </section>
  {:else}
    <ul class="rounded-box border border-base-300" data-concerns>
      {#each watch.concerns as concern, i (i)}
        {@const mark = marks[concern.weight]}
        <li class="grid grid-cols-[1.25rem_1fr] gap-x-3 border-t border-base-300 px-4 py-3 first:border-t-0 sm:grid-cols-[1.25rem_11rem_1fr]">
          <span class="font-semibold {mark.tone}" title={mark.word} aria-label={mark.word}>{mark.sign}</span>
          <span>
            {#if concern.about === "service"}<b>the service</b>
            {:else if concern.about === "decoder"}
              <a class="link-hover font-semibold" href="/decoders/{concern.model}">{concern.model}</a>
              <span class="block text-sm text-base-content/75">model</span>
            {:else if concern.about === "outlet"}
              <a class="link-hover font-semibold" href="/outlets/{concern.name}">{concern.name}</a>
              <span class="block text-sm text-base-content/75">outlet</span>
            {:else}
              <a class="link-hover font-semibold" href="/{concern.about}s/{concern.eui}">{concern.name}</a>
              <span class="block text-sm text-base-content/75">{concern.about}</span>
            {/if}
          </span>
          <div class="col-start-2 sm:col-start-3">
            <p>
              {concern.what}{#if concern.since}{" "}<span class="text-sm text-base-content/75" title={moment(concern.since)}
                  >since {moment(concern.since)} ({ago(concern.since, live.now)})</span
                >{/if}
            </p>
            <p class="text-base-content/80"><b>Next:</b> <Words text={concern.next_step} /></p>
            {#if concern.message}<a class="link" href="/decoders/{concern.model}?message={concern.message}">Open it in the workbench</a>{/if}
          </div>
        </li>
      {/each}
    </ul>
  {/if}
{:else if !problem}
  <Loading />
{/if}
