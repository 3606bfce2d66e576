<!-- A state as a shape and a word: never by colour alone. -->
<script lang="ts">
  let { state }: { state: string } = $props();

  const shapes: Record<string, { word: string; shape: "full" | "half" | "ring" | "cross"; tone: string }> = {
    listening: { word: "listening", shape: "full", tone: "text-success" },
    quiet: { word: "quiet", shape: "half", tone: "text-warning" },
    lost: { word: "lost", shape: "cross", tone: "text-error" },
    never_heard: { word: "never heard", shape: "ring", tone: "text-base-content/75" },
    active: { word: "active", shape: "full", tone: "text-success" },
    disabled: { word: "disabled", shape: "ring", tone: "text-base-content/75" },
    silent: { word: "silent", shape: "half", tone: "text-warning" },
    refused: { word: "refused", shape: "cross", tone: "text-error" },
    never_joined: { word: "never joined", shape: "ring", tone: "text-base-content/75" },
    waiting: { word: "waiting", shape: "ring", tone: "text-secondary" },
    under_way: { word: "under way", shape: "half", tone: "text-secondary" },
    awaiting_ack: { word: "awaiting acknowledgement", shape: "half", tone: "text-secondary" },
    sent: { word: "sent", shape: "full", tone: "text-success" },
    acknowledged: { word: "acknowledged", shape: "full", tone: "text-success" },
    failed: { word: "failed", shape: "cross", tone: "text-error" },
    cancelled: { word: "cancelled", shape: "ring", tone: "text-base-content/75" },
    planned: { word: "still to come", shape: "ring", tone: "text-base-content/75" },
    not_sent: { word: "not sent", shape: "cross", tone: "text-error" },
    running: { word: "running", shape: "half", tone: "text-secondary" },
    done: { word: "done", shape: "full", tone: "text-success" },
    agrees: { word: "agrees", shape: "full", tone: "text-success" },
    differs: { word: "does not agree", shape: "cross", tone: "text-error" },
    within_limits: { word: "within limits", shape: "full", tone: "text-success" },
    too_often: { word: "too often", shape: "cross", tone: "text-error" },
    too_long: { word: "too long", shape: "ring", tone: "text-warning" },
    not_usable: { word: "not usable", shape: "ring", tone: "text-base-content/75" },
    good: { word: "good", shape: "full", tone: "text-success" },
    expiring: { word: "expires soon", shape: "half", tone: "text-warning" },
    expired: { word: "expired", shape: "cross", tone: "text-error" },
    revoked: { word: "revoked", shape: "ring", tone: "text-base-content/75" },
    connected: { word: "connected", shape: "full", tone: "text-success" },
    disconnected: { word: "disconnected", shape: "ring", tone: "text-base-content/75" },
    restarted: { word: "restarted", shape: "half", tone: "text-warning" },
    changed: { word: "changed", shape: "ring", tone: "text-secondary" },
    odd: { word: "odd", shape: "half", tone: "text-warning" },
    ready: { word: "will be registered", shape: "ring", tone: "text-success" },
    registered: { word: "registered", shape: "full", tone: "text-success" },
    bad: { word: "cannot be registered", shape: "cross", tone: "text-error" },
    held: { word: "held back", shape: "ring", tone: "text-warning" },
    one_gateway: { word: "one gateway", shape: "half", tone: "text-warning" },
    dark: { word: "dark", shape: "cross", tone: "text-error" },
    weak: { word: "weak", shape: "half", tone: "text-warning" },
    weak_by_nature: { word: "weak by nature", shape: "half", tone: "text-warning" },
    weak_by_fault: { word: "weak by fault", shape: "cross", tone: "text-error" },
    not_heard: { word: "not heard", shape: "cross", tone: "text-error" },
    out_of_reach: { word: "out of reach", shape: "ring", tone: "text-warning" },
    unknown: { word: "unknown", shape: "ring", tone: "text-base-content/75" },
    delivering: { word: "delivering", shape: "full", tone: "text-success" },
    retrying: { word: "retrying", shape: "half", tone: "text-warning" },
    failing: { word: "failing", shape: "cross", tone: "text-error" },
    paused: { word: "paused", shape: "ring", tone: "text-warning" },
    stranger: { word: "stranger", shape: "ring", tone: "text-warning" },
  };
  const known = $derived(shapes[state] ?? { word: state, shape: "ring" as const, tone: "text-base-content/75" });
</script>

<span class="inline-flex items-center gap-1.5 whitespace-nowrap font-medium {known.tone}">
  <svg width="11" height="11" viewBox="0 0 12 12" aria-hidden="true">
    {#if known.shape === "full"}
      <circle cx="6" cy="6" r="5" fill="currentColor" />
    {:else if known.shape === "half"}
      <circle cx="6" cy="6" r="4.8" fill="none" stroke="currentColor" stroke-width="1.5" />
      <path d="M6 1.200a4.8 4.8 0 0 1 0 9.600z" fill="currentColor" />
    {:else if known.shape === "cross"}
      <path d="M2 2l8 8M10 2l-8 8" stroke="currentColor" stroke-width="2.4" stroke-linecap="round" />
    {:else}
      <circle cx="6" cy="6" r="4.5" fill="none" stroke="currentColor" stroke-width="1.8" />
    {/if}
  </svg>
  {known.word}
</span>
