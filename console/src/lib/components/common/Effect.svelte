<!-- What a change does to devices, or would. -->
<script lang="ts">
  import type { ChangeEffect } from "#lib/api.ts";

  const SHOWN = 20;
  let { effect }: { effect: ChangeEffect } = $props();
</script>

<div class="mt-3 rounded-field bg-base-200 p-3" data-effect role="status">
  <p>
    {effect.done ? "Saved." : "Nothing is changed yet."}
    {effect.devices.length === 0
      ? "No device is affected."
      : `${effect.devices.length} ${effect.done ? "became" : "would become"} different, ${effect.untouched} stay as they are.`}
  </p>
  {#each effect.devices.slice(0, SHOWN) as device (device.dev_eui)}
    <p class="mt-2"><a class="link font-semibold link-hover" href="/devices/{device.dev_eui}">{device.name}</a></p>
    <ul class="ml-4 list-disc text-sm">
      {#each device.changes as change (change.setting)}
        <li>{change.setting}: {change.before || "none"} → {change.after || "none"}{change.sent ? `; it is sent ${change.sent}` : ""}</li>
      {/each}
    </ul>
  {/each}
  {#if effect.devices.length > SHOWN}<p class="mt-2 text-sm">and {effect.devices.length - SHOWN} more</p>{/if}
</div>
