<!-- How far a round has come. -->
<script lang="ts">
  import type { Round } from "#lib/api.ts";

  let { round }: { round: Round } = $props();
  const parts = $derived(
    [
      [round.done, "done"],
      [round.open, "in their outbox or not acknowledged yet"],
      [round.planned, "still to come"],
      [round.failed, "failed"],
    ].filter(([count]) => count),
  );
</script>

<progress class="progress progress-primary w-32" value={round.done + round.failed} max={Math.max(round.devices, 1)} aria-label="Devices with an outcome"
></progress>
<span class="tabular-nums">{parts.map(([count, words]) => `${count} ${words}`).join(", ") || "no device"}</span>
