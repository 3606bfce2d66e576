<!-- A device's frames: all of them, or those that tell of problems. -->
<script lang="ts">
  import type { Message } from "#lib/api.ts";
  import MessageList from "#lib/components/traffic/MessageList.svelte";

  type Props = { messages: Message[]; timeline: Message[]; fresh: boolean; rehearse: (id: string) => void };
  let { messages, timeline, fresh, rehearse }: Props = $props();

  /** Frames that are listed. */
  const LISTED = 50;
  /** Everything, or problems only. */
  let everything = $state(true);
  const shown = $derived(everything ? messages : timeline);
</script>

<div class="mb-1 flex flex-wrap items-baseline gap-4">
  <h2>{everything ? "Latest frames" : "Timeline"}</h2>
  <div class="join" role="group" aria-label="What is listed">
    <button class="btn join-item btn-xs" class:btn-active={everything} aria-pressed={everything} onclick={() => (everything = true)}>everything</button>
    <button class="btn join-item btn-xs" class:btn-active={!everything} aria-pressed={!everything} onclick={() => (everything = false)}>problems only</button>
  </div>
</div>
{#if shown.length === 0}
  <p class="text-base-content/75">No frames yet.</p>
{:else}
  <MessageList messages={shown.slice(0, LISTED)} named={false} {fresh} {rehearse} />
{/if}
