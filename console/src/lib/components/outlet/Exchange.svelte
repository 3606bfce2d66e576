<!-- A request as it was made, and the answer to it. -->
<script lang="ts">
  import type { GivenAnswer, MadeRequest } from "#lib/api.ts";

  let { request, answer }: { request: MadeRequest; answer?: GivenAnswer | null } = $props();

  /** JSON with line breaks, if it is whole; what it is otherwise. */
  function readable(text: string): string {
    try {
      return JSON.stringify(JSON.parse(text), null, 2);
    } catch {
      return text;
    }
  }
  const headers = $derived(Object.entries(request.headers).map(([name, value]) => `${name}: ${value}`));
</script>

<div class="grid gap-3 lg:grid-cols-2" data-exchange>
  <div class="min-w-0">
    <h3 class="text-sm font-semibold">Request</h3>
    <pre class="mt-1 max-h-72 overflow-auto rounded-box bg-base-200 p-3 font-mono text-xs whitespace-pre-wrap">{request.line}
{headers.join("\n")}

{readable(request.body)}</pre>
  </div>
  <div class="min-w-0">
    <h3 class="text-sm font-semibold">Answer</h3>
    {#if answer}
      <pre class="mt-1 max-h-72 overflow-auto rounded-box bg-base-200 p-3 font-mono text-xs whitespace-pre-wrap">{answer.status}

{readable(answer.body)}</pre>
    {:else}
      <p class="mt-1 text-base-content/75">None came.</p>
    {/if}
  </div>
</div>
