<!-- What to check when a gateway is not heard. -->
<script lang="ts">
  import type { Gateway } from "#lib/api.ts";
  import { ago } from "#lib/format.ts";
  import { live } from "#lib/live.svelte.ts";
  import Card from "#lib/components/common/Card.svelte";

  let { gateway }: { gateway: Gateway } = $props();
</script>

{#if gateway.state === "never_heard"}
  <Card title="Never heard" class="mb-5">
    <p class="mt-1">Check in this order:</p>
    <ol class="mt-1 list-decimal pl-6">
      <li>Is it switched on, and does its network reach this machine?</li>
      {#if gateway.protocol === "udp"}
        <li>Does its packet forwarder use the address and UDP port on the sheet of its connection kit?</li>
        <li>Does a firewall let that port through, and the answers back?</li>
        {#if gateway.udp_source}<li>Does it call from {gateway.udp_source}? From elsewhere its datagrams are not taken.</li>{/if}
      {:else}
        <li>Does it have the files of its connection kit, all of them and no others of the same names?</li>
        <li>Does a firewall let it through to the address on the kit's sheet?</li>
        <li>Is its clock right? With a clock in 1970 no certificate is valid yet.</li>
      {/if}
      <li>Was it rejected? Events, below, lists each attempt with its reason.</li>
      <li>Does it use another EUI? Then it is listed under Strangers on the Gateways page.</li>
    </ol>
  </Card>
{/if}

{#if gateway.state === "quiet" || gateway.state === "lost"}
  <Card title="No longer heard" class="mb-5">
    <p class="mt-1">It was last heard {ago(gateway.last_heard, live.now)}{gateway.address ? `, from ${gateway.address}` : ""}. Check in this order:</p>
    <ol class="mt-1 list-decimal pl-6">
      <li>See Events: was it rejected, or did its connection end, and why?</li>
      <li>Does it have power, and does its network still reach this machine?</li>
      <li>Are other gateways at the same place quiet too? Then check the network there.</li>
    </ol>
  </Card>
{/if}
