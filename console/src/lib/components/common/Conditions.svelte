<!-- What must be true before a device is heard, in order, with what is known of each. -->
<script lang="ts">
  import type { Condition } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";

  let { conditions }: { conditions: Condition[] } = $props();
  const signs = {
    passed: { sign: "✓", word: "so it is", tone: "text-success" },
    doubtful: { sign: "?", word: "doubtful", tone: "text-warning" },
    failed: { sign: "✕", word: "it is not", tone: "text-error" },
    not_reached: { sign: "○", word: "not known", tone: "text-base-content/75" },
  };
</script>

<Card title="What must be true, in this order" class="mb-5" data-conditions>
  <ol class="grid gap-1.5">
    {#each conditions as condition, i (condition.what)}
      {@const mark = signs[condition.verdict]}
      <li class="grid grid-cols-[1.5rem_1fr] gap-x-2" data-verdict={condition.verdict}>
        <span class="font-semibold {mark.tone}"><span aria-hidden="true">{mark.sign}</span><span class="sr-only">{mark.word}</span></span>
        <p><b class="font-semibold">{i + 1}. {condition.what}.</b> {condition.known}</p>
      </li>
    {/each}
  </ol>
</Card>
