<!-- What the device is set to, what the network wants, and what the device made of that. -->
<script lang="ts">
  import type { Agreement } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import { ago, moment } from "#lib/format.ts";
  import Card from "#lib/components/common/Card.svelte";

  let { agreement }: { agreement: Agreement } = $props();
</script>

<Card title="Settings" data-agreement>
  <dl class="grid grid-cols-[8.5rem_1fr] gap-y-1 [&_dt]:text-base-content/75">
    {#each agreement.settings as setting (setting.name)}
      <dt>{setting.name}</dt>
      <dd>
        {setting.known}
        {#if setting.wanted !== setting.known}<span class="text-warning">→ {setting.wanted} wanted</span>{/if}
      </dd>
    {/each}
    {#if agreement.health}
      <dt>it says</dt>
      <dd>
        {agreement.health.battery}, margin {agreement.health.margin_db} dB
        <span class="text-sm text-base-content/75">{ago(agreement.health.at, live.now)}</span>
      </dd>
    {/if}
  </dl>
  {#each agreement.under_way as request, i (i)}
    <p class="mt-2"><b>Under way:</b> {request}</p>
  {/each}
  {#each agreement.refused as refused, i (i)}
    <p class="mt-2 text-warning">Refused {refused.times}×: {refused.what}; asked again {moment(refused.again_at)}</p>
  {/each}
  {#if agreement.unanswered > 1}
    <p class="mt-2 text-warning">{agreement.unanswered} requests in a row got no answer.</p>
  {/if}
</Card>
