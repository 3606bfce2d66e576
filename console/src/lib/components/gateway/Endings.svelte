<!-- Certificates and tokens that end soon. -->
<script lang="ts">
  import type { Endings } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import { day } from "#lib/format.ts";

  let { endings }: { endings: Endings } = $props();
  const serverEnds = $derived((Date.parse(endings.server_expires_at) - live.now) / 86_400_000 < 30 && !endings.server_renews_itself);
</script>

{#if endings.credentials.length > 0 || serverEnds}
  <section class="mb-4 rounded-box border border-warning p-4" data-endings>
    <h2>Expiring soon</h2>
    <ul class="mt-1">
      {#if serverEnds}<li>The certificate the service shows to gateways ends on {day(endings.server_expires_at)}: give it a new one.</li>{/if}
      {#each endings.credentials as ending (ending.credential.id)}
        <li>
          <a class="link font-semibold" href="/gateways/{ending.gateway}">{ending.name}</a>: its {ending.credential.kind} for {ending.credential.purpose}
          {Date.parse(ending.credential.expires_at) < live.now ? "ended" : "ends"} on {day(ending.credential.expires_at)}{ending.renews_itself
            ? "; it renews by itself"
            : "; create a new connection kit"}.
        </li>
      {/each}
    </ul>
  </section>
{/if}
