<!-- One message of the traffic, in one or two lines. -->
<script lang="ts">
  import type { Evidence, HeardBy, Message } from "#lib/api.ts";
  import { clock, moment, radio, value } from "#lib/format.ts";
  import Checks from "#lib/components/common/Checks.svelte";
  import Bytes from "#lib/components/common/Bytes.svelte";

  let { message, named = true, fresh = false, rehearse }: { message: Message; named?: boolean; fresh?: boolean; rehearse?: (id: string) => void } = $props();
  /** The reading that is pointed at; its bytes are lit. */
  let pointed = $state<[number, number] | null>(null);
  const span = (bytes: number[] | null | undefined): [number, number] | null => (bytes?.length === 2 ? [bytes[0] ?? 0, bytes[1] ?? 0] : null);

  const marks = {
    uplink: { sign: "↑", word: "uplink", tone: "text-primary" },
    join: { sign: "⇄", word: "join", tone: "text-secondary" },
    refused: { sign: "✕", word: "refused", tone: "text-error" },
    downlink: { sign: "↓", word: "downlink", tone: "text-secondary" },
    notice: { sign: "i", word: "notice", tone: "text-base-content/75" },
    gateway: { sign: "·", word: "gateway", tone: "text-base-content/75" },
  };
  const stages = { sent: "sent", acknowledged: "acknowledged by the device", returned: "back in the outbox", failed: "failed" };
  const mark = $derived(message.type === "notice" && message.wants_attention ? { sign: "!", word: "notice", tone: "text-warning" } : marks[message.type]);
  /** The frame's bytes, and the region they were sent in. */
  const bytes = $derived("phy_payload" in message ? message.phy_payload : "sent" in message ? message.sent?.phy_payload : undefined);
  const region = $derived("radio" in message ? message.radio.region : "sent" in message ? message.sent?.radio.region : undefined);
  const heard = (by: HeardBy[]) =>
    by.map((h) => `${h.name} ${Math.round(h.rssi_dbm)} dBm${h.snr_db != null ? `, SNR ${h.snr_db.toFixed(1)} dB` : ""}`).join(" · ");
</script>

<li class="grid grid-cols-[auto_1fr] gap-x-3 border-b border-base-300 px-1 py-2 sm:grid-cols-[5.5rem_6.5rem_1fr] {fresh ? 'arrived' : ''}">
  <time class="pt-0.5 font-mono text-xs text-base-content/75 tabular-nums" datetime={message.time} title={moment(message.time)}>
    {clock(message.time)}
  </time>
  <span class="font-medium {mark.tone}"><span aria-hidden="true" class="inline-block w-4">{mark.sign}</span>{mark.word}</span>
  <div class="col-span-2 min-w-0 sm:col-span-1">
    <div class="flex flex-wrap items-baseline gap-x-3 gap-y-0.5">
      {#if named}
        {#if message.device}
          <a class="link-hover font-semibold" href="/devices/{message.device.eui}">{message.device.name}</a>
        {:else if message.type === "refused"}
          <span class="text-base-content/75">unknown device</span>
        {/if}
      {/if}
      {#if message.type === "uplink"}
        {#if message.rehearsed}<span class="badge badge-sm badge-warning" data-rehearsed title="Nothing was received">rehearsed by {message.rehearsed.by}</span
          >{/if}
        <span class="text-sm text-base-content/75">#{message.frame.counter}{message.frame.port != null ? ` port ${message.frame.port}` : ""}</span>
        <Bytes hex={message.frame.payload} lit={pointed} />
      {:else if message.type === "join"}
        <span
          >{message.rejoin_type == null ? "joined" : `rejoined (type ${message.rejoin_type})`}, DevAddr
          <code class="font-mono text-[0.9em]">{message.dev_addr}</code></span
        >
      {:else if message.type === "downlink"}
        <span>
          {stages[message.stage]}
          {#if !message.frame}
            join-accept
          {:else}
            {message.frame.counter != null ? `#${message.frame.counter}` : ""}
            {message.frame.port != null ? `port ${message.frame.port}` : message.acknowledges ? "acknowledgement" : "without payload"}
          {/if}
        </span>
        {#if message.frame?.payload}<Bytes hex={message.frame.payload} />{/if}
      {:else if message.type === "refused"}
        <span>{message.refusal.why}</span>
      {:else if message.type === "notice"}
        <span>{message.why}</span>
      {/if}
    </div>

    {#if "frame" in message && message.frame?.mac}
      {#each message.frame.mac as command, i (i)}
        <p><span class="font-semibold">{command.name}</span>: {command.words}</p>
      {/each}
    {/if}
    {#if message.type === "uplink"}
      {#if Object.keys(message.readings).length > 0}
        <div class="flex flex-wrap gap-x-4">
          {#each Object.entries(message.readings) as [name, reading] (name)}
            <span role="note" onpointerenter={() => (pointed = span(reading.bytes))} onpointerleave={() => (pointed = null)}
              ><span class="text-base-content/75">{name}</span> <b class="font-semibold tabular-nums">{value(reading)}</b>
              {reading.word ? "" : (reading.unit ?? "")}{#if reading.earlier?.length}<span class="text-base-content/75">
                  and {reading.earlier.length} earlier</span
                >{/if}</span
            >
          {/each}
        </div>
      {/if}
      {#if message.decode_error}
        <p class="text-error">
          not decoded: {message.decode_error}{#if message.device?.model && !message.rehearsed}{" "}·
            <a class="link" href="/decoders/{message.device.model}?message={message.id}">fix it in the workbench</a>{/if}
        </p>
      {/if}
      {#each [...message.warnings, ...(message.decode_warnings ?? [])] as warning, i (i)}
        <p class="text-warning">{warning}</p>
      {/each}
    {/if}
    {#if message.type === "refused"}
      {@render evidence(message.refusal.evidence)}
      <p class="text-base-content/80"><b>Next:</b> {message.refusal.next_step}</p>
    {/if}
    {#if message.type === "notice"}
      {@render evidence(message.evidence)}
      {#if message.next_step}<p class="text-base-content/80"><b>Next:</b> {message.next_step}</p>{/if}
    {/if}
    {#if message.type === "downlink" && message.note}
      <p class="text-warning">{message.note}</p>
    {/if}
    {#if (message.type === "join" || message.type === "refused") && message.checks?.length}<Checks checks={message.checks} />{/if}
    {#if message.type === "join" && message.unanswered}
      <p class="text-error">not answered: {message.unanswered}</p>
    {/if}

    <p class="text-sm text-base-content/75">
      {#if message.type === "join" || message.type === "refused" || message.type === "uplink"}
        {radio(message.radio)} · {message.radio.airtime_ms.toFixed(1)} ms · heard by {heard(message.heard_by)}
      {:else if message.type === "downlink" && message.sent}
        {message.sent.window} by {message.sent.name} · {radio(message.sent.radio)} · {message.sent.radio.airtime_ms.toFixed(1)} ms · {message.sent.power_dbm} dBm{message
          .sent.window_reason
          ? ` · ${message.sent.window_reason}`
          : ""}
      {/if}
      {#if bytes}
        · <a class="link" href="/tools/frame?frame={bytes}&region={region ?? ''}">show the frame</a>
      {/if}
      {#if message.type === "uplink" && rehearse && message.frame.port && !message.rehearsed}
        · <button class="link" type="button" onclick={() => rehearse(message.id)}>rehearse</button>
      {/if}
      {#if message.type === "notice"}<code class="font-mono text-[0.9em]">{message.code}</code>{/if}
    </p>
  </div>
</li>

{#snippet evidence(values: Evidence[] | undefined)}
  {#if values?.length}
    <p class="flex flex-wrap gap-x-4 text-sm text-base-content/80">
      {#each values as item (item.name)}
        <span>{item.name}: <b class="font-semibold tabular-nums">{item.value}</b></span>
      {/each}
    </p>
  {/if}
{/snippet}
