<!-- What a device is registered as, and its session. -->
<script lang="ts">
  import type { DeviceDetail } from "#lib/api.ts";
  import { ago, grouped, moment } from "#lib/format.ts";
  import { live } from "#lib/live.svelte.ts";
  import Card from "#lib/components/common/Card.svelte";

  let { device }: { device: DeviceDetail } = $props();
</script>

<Card title="Identity and session">
  <dl class="grid grid-cols-[8.5rem_1fr] gap-y-1 [&_dt]:text-base-content/75">
    <dt>DevEUI</dt>
    <dd class="font-mono text-[0.9em]">{grouped(device.dev_eui)}</dd>
    <dt>JoinEUI</dt>
    {#if device.join_eui}
      <dd class="font-mono text-[0.9em]">{grouped(device.join_eui)}</dd>
    {:else}
      <dd>none: it does not join</dd>
    {/if}
    <dt>Fleet</dt>
    <dd><a class="link link-hover" href="/devices/fleets/{device.fleet}">{device.fleet}</a></dd>
    <dt>Model</dt>
    <dd>
      {#if device.model}<a class="link link-hover" href="/decoders/{device.model}">{device.model}</a>{:else}none{/if}
    </dd>
    <dt>Radio profile</dt>
    <dd>{device.profile ?? "none"}</dd>
    {#if device.tags.length > 0}
      <dt>Tags</dt>
      <dd class="flex flex-wrap gap-1">
        {#each device.tags as tag (tag)}<a class="badge badge-ghost badge-sm" href="/devices?tag={tag}">{tag}</a>{/each}
      </dd>
    {/if}
    {#if device.firmware || device.hardware}
      <dt>Versions</dt>
      <dd>{[device.hardware && `hardware ${device.hardware}`, device.firmware && `firmware ${device.firmware}`].filter(Boolean).join(", ")}</dd>
    {/if}
    {#if device.place}
      <dt>Place</dt>
      <dd class="tabular-nums">
        {device.place.latitude_deg.toFixed(5)}, {device.place.longitude_deg.toFixed(5)}{device.place.height_m != null
          ? `, ${device.place.height_m} m above the ground`
          : ""}{device.place.indoor == null ? "" : device.place.indoor ? ", indoors" : ", outdoors"}{device.place.antenna_gain_dbi != null
          ? `, antenna of ${device.place.antenna_gain_dbi} dBi`
          : ""}{device.place.penetration_loss_db != null ? `, ${device.place.penetration_loss_db} dB lost around it` : ""}
      </dd>
    {/if}
    {#each Object.entries(device.attributes ?? {}) as [name, text] (name)}
      <dt class="break-words">{name}</dt>
      <dd class="break-words">{text}</dd>
    {/each}
    <dt>Region</dt>
    <dd>{device.region}</dd>
    <dt>Link layer</dt>
    <dd>LoRaWAN {device.whole_radio.mac_version ?? "1.0.3"}, class {device.class}, {device.personalized ? "personalized (ABP)" : "joins (OTAA)"}</dd>
    {#if device.next_session}
      <dt>Next session</dt>
      <dd>DevAddr <span class="font-mono text-[0.9em]">{device.next_session.dev_addr}</span>, begins with its first uplink</dd>
    {/if}
    {#if device.session}
      <dt>DevAddr</dt>
      <dd class="font-mono text-[0.9em]">{device.session.dev_addr}</dd>
      {#if !device.personalized}
        <dt>Joined</dt>
        <dd title={moment(device.session.joined_at)}>{ago(device.session.joined_at, live.now)}</dd>
      {/if}
      <dt>Last FCntUp</dt>
      <dd class="tabular-nums">{device.session.last_counter_up ?? "none yet"}</dd>
      <dt>Next FCntDown</dt>
      <dd class="tabular-nums">
        {device.session.next_counter_down}{device.session.next_app_counter_down != null ? `, application ${device.session.next_app_counter_down}` : ""}
      </dd>
    {:else if !device.next_session}
      <dt>Session</dt>
      <dd>none: it has not joined</dd>
    {/if}
  </dl>
</Card>
