<!-- What a gateway reports, and how it is connected. -->
<script lang="ts">
  import type { Gateway } from "#lib/api.ts";
  import { ago, PROTOCOLS } from "#lib/format.ts";
  import { live } from "#lib/live.svelte.ts";
  import Card from "#lib/components/common/Card.svelte";

  let { gateway }: { gateway: Gateway } = $props();
  const report = $derived(gateway.report ?? null);
</script>

<Card title="Gateway status" data-report>
  {#if report}
    <dl class="grid grid-cols-[9rem_1fr] gap-y-1">
      <dt class="text-base-content/75">Last report</dt>
      <dd>{ago(report.at, live.now)}, {report.reports} since the service started</dd>
      <dt class="text-base-content/75">Received</dt>
      <dd class="tabular-nums">{report.received} frames, {report.crc_bad} with a wrong CRC</dd>
      <dt class="text-base-content/75">Forwarded</dt>
      <dd class="tabular-nums">{report.forwarded}</dd>
      {#if report.exceeds_arrived}
        <dt class="text-warning">Arrived</dt>
        <dd class="text-warning">only {report.arrived}: its counters may be running totals, or frames are lost on the way</dd>
      {/if}
      <dt class="text-base-content/75">Sent</dt>
      <dd class="tabular-nums">{report.sent}</dd>
      {#if report.acknowledged_percent != null}
        <dt class="text-base-content/75">Acknowledged</dt>
        <dd class="tabular-nums">{report.acknowledged_percent} % of its datagrams</dd>
      {/if}
      <dt class="text-base-content/75">Its GPS</dt>
      <dd class="tabular-nums">
        {report.latitude_deg != null && report.longitude_deg != null
          ? `${report.latitude_deg.toFixed(5)}, ${report.longitude_deg.toFixed(5)}`
          : "no position"}{gateway.has_gps ? "; gives GPS time" : ""}
      </dd>
      {#if report.clock}<dt class="text-base-content/75">Its clock</dt>
        <dd>{report.clock}</dd>{/if}
    </dl>
  {:else}
    <p class="text-base-content/75">
      {gateway.protocol === "websocket" ? "WebSocket gateways do not report counters." : "No report since the service started."}
    </p>
  {/if}
  <dl class="mt-2 grid grid-cols-[9rem_1fr] gap-y-1">
    <dt class="text-base-content/75">Connection</dt>
    <dd>{PROTOCOLS[gateway.protocol]}, channels {gateway.channels}</dd>
    <dt class="text-base-content/75">Address</dt>
    <dd class={gateway.address ? "font-mono text-[0.9em]" : ""}>{gateway.address ?? (gateway.protocol === "mqtt" ? "behind the broker" : "not known")}</dd>
    <dt class="text-base-content/75">Round-trip time</dt>
    <dd class="tabular-nums">
      {gateway.delay ? `${gateway.delay.round_trip_ms.toFixed(1)} ms, ± ${gateway.delay.jitter_ms.toFixed(1)} ms` : "not measured yet"}
    </dd>
    {#if gateway.software}
      <dt class="text-base-content/75">Software</dt>
      <dd>{[gateway.software.program, gateway.software.model, gateway.software.firmware, gateway.software.package].filter((text) => text).join(", ")}</dd>
    {/if}
    {#if gateway.description}<dt class="text-base-content/75">Description</dt>
      <dd>{gateway.description}</dd>{/if}
  </dl>
</Card>
