<!-- What another system has to be told, and lines and programs to copy. -->
<script lang="ts">
  import type { Connecting, ConnectSnippet } from "#lib/api.ts";

  let { connecting }: { connecting: Connecting } = $props();
  let copied = $state("");

  async function copy(snippet: ConnectSnippet) {
    await navigator.clipboard.writeText(snippet.text);
    copied = snippet.title;
  }

  function readable(text: string): string {
    try {
      return JSON.stringify(JSON.parse(text), null, 2);
    } catch {
      return text;
    }
  }
</script>

<dl class="mb-5 grid gap-x-6 gap-y-2 sm:grid-cols-[max-content_1fr]" data-connect-settings>
  {#each connecting.settings as one (one.name)}
    <dt class="text-sm text-base-content/75 first-letter:uppercase">{one.name}</dt>
    <dd class="min-w-0 font-mono text-sm break-all select-all">{one.value}</dd>
  {/each}
</dl>
<div class="grid gap-5">
  {#each connecting.snippets as snippet (snippet.title)}
    <section class="min-w-0" data-snippet={snippet.title}>
      <div class="flex items-center gap-3">
        <h3 class="font-semibold">{snippet.title}</h3>
        <button class="btn btn-ghost btn-xs" type="button" onclick={() => copy(snippet)}>{copied === snippet.title ? "Copied" : "Copy"}</button>
      </div>
      <pre class="mt-1 max-h-80 overflow-auto rounded-box bg-base-200 p-3 font-mono text-xs">{snippet.text.trimEnd()}</pre>
    </section>
  {/each}
  {#if connecting.sample}
    <section class="min-w-0" data-sample>
      <h3 class="font-semibold">The latest message</h3>
      <pre class="mt-1 max-h-80 overflow-auto rounded-box bg-base-200 p-3 font-mono text-xs whitespace-pre-wrap">{readable(connecting.sample)}</pre>
    </section>
  {/if}
</div>
