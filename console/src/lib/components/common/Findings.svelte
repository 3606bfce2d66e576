<!-- What was found about a device, what matters most first. -->
<script lang="ts">
  import type { Finding } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";

  let { findings }: { findings: Finding[] } = $props();

  const marks = {
    trouble: { sign: "✕", word: "trouble", tone: "text-error" },
    attention: { sign: "!", word: "attention", tone: "text-warning" },
    fine: { sign: "✓", word: "fine", tone: "text-primary" },
  };
</script>

<Card title="Diagnosis" class="mb-5" aria-label="Diagnosis" data-findings>
  <ul class="grid gap-y-2">
    {#each findings as finding, i (i)}
      {@const mark = marks[finding.weight]}
      <li class="grid grid-cols-[1.25rem_1fr] gap-x-2 sm:grid-cols-[1.25rem_6rem_1fr]">
        <span class="font-semibold {mark.tone}" title={mark.word}>{mark.sign}</span>
        <span class="text-base-content/75">{finding.about}</span>
        <div class="col-start-2 sm:col-start-3">
          <p>{finding.what}</p>
          {#if finding.next_step}<p class="text-base-content/80"><b>Next:</b> {finding.next_step}</p>{/if}
        </div>
      </li>
    {/each}
  </ul>
</Card>
