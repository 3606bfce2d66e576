<!-- Messages, newest first. Equal refusals and notices in a row fold into one line with count, first and last time. -->
<script lang="ts">
  import type { Message } from "#lib/api.ts";
  import { moment, runs } from "#lib/format.ts";
  import MessageRow from "#lib/components/traffic/MessageRow.svelte";

  let {
    messages,
    named = true,
    fresh = false,
    rehearse,
  }: { messages: Message[]; named?: boolean; fresh?: boolean; rehearse?: (id: string) => void } = $props();

  /** What makes two messages equal; nothing for those that are never folded. */
  function sameness(message: Message): string | null {
    if (message.type === "refused") return `refused ${message.device?.eui ?? ""} ${message.refusal.code} ${message.refusal.why}`;
    if (message.type === "notice") return `notice ${message.device?.eui ?? ""} ${message.code}`;
    return null;
  }

  const folded = $derived(runs(messages, (a, b) => sameness(a) !== null && sameness(a) === sameness(b)));
  /** Runs that are unfolded, by their oldest message: newer ones come in front. */
  let open = $state<Record<string, boolean>>({});
</script>

<ul class="border-t border-base-300">
  {#each folded as run, i (run.at(-1)?.id)}
    {@const key = run.at(-1)?.id ?? ""}
    {@const newest = run[0]}
    {@const oldest = run.at(-1)}
    {#if newest && oldest}
      {#if run.length === 1 || open[key]}
        {#each run as message, j (message.id)}<MessageRow {message} {named} fresh={fresh && i === 0 && j === 0} {rehearse} />{/each}
      {:else}
        <MessageRow message={newest} {named} fresh={fresh && i === 0} {rehearse} />
      {/if}
      {#if run.length > 1}
        <li class="border-b border-base-300 px-1 py-1.5 text-sm text-base-content/75 sm:pl-50" data-folded={run.length}>
          {run.length} times the same, from {moment(oldest.time)} to {moment(newest.time)}
          ·
          <button class="link" type="button" aria-expanded={Boolean(open[key])} onclick={() => (open[key] = !open[key])}
            >{open[key] ? "fold" : "show all"}</button
          >
        </li>
      {/if}
    {/if}
  {/each}
</ul>
