<!-- A join-request check by check. -->
<script lang="ts">
  import type { JoinCheck } from "#lib/api.ts";

  let { checks }: { checks: JoinCheck[] } = $props();
  const signs = {
    passed: { sign: "✓", word: "passed", tone: "text-success" },
    doubtful: { sign: "?", word: "doubtful", tone: "text-warning" },
    failed: { sign: "✕", word: "failed", tone: "font-semibold text-error" },
    not_reached: { sign: "·", word: "not looked at", tone: "text-base-content/75" },
  };
</script>

<ol class="flex flex-wrap gap-x-4 text-sm" aria-label="What was checked" data-checks>
  {#each checks as check (check.what)}
    {@const mark = signs[check.verdict]}
    <li class={mark.tone} data-verdict={check.verdict}>
      <span aria-hidden="true">{mark.sign}</span><span class="sr-only">{mark.word}:</span>
      {check.what}{check.found ? `: ${check.found}` : ""}
    </li>
  {/each}
</ol>
