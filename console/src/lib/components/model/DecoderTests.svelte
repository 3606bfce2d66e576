<!-- Payloads a decoder must read as it is written here. -->
<script lang="ts">
  import type { TestPayload } from "#lib/api.ts";
  import Bytes from "#lib/components/common/Bytes.svelte";
  import Card from "#lib/components/common/Card.svelte";

  let { tests = $bindable() }: { tests: TestPayload[] } = $props();
</script>

<Card title="Tests" data-tests>
  {#if tests.length === 0}
    <p class="text-sm text-base-content/80">No tests yet. Save a result below as a test. Tests run on every save; while one fails, the decoder is not used.</p>
  {/if}
  <ul class="text-sm">
    {#each tests as test, i (i)}
      <li class="flex flex-wrap items-baseline gap-x-3 border-b border-base-300 py-0.5 last:border-b-0">
        <input class="input input-ghost input-xs w-44 px-1 text-sm font-medium" aria-label="Name of the test" bind:value={test.name} maxlength="60" />
        <span class="text-base-content/75">port {test.port}</span>
        <Bytes hex={test.bytes} />
        <span class="text-base-content/75"
          >{test.fails
            ? "must fail"
            : Object.entries(test.readings ?? {})
                .map(([name, value]) => `${name} ${value}`)
                .join(", ")}</span
        >
        <button class="link ml-auto" type="button" onclick={() => (tests = tests.filter((other) => other !== test))}>remove</button>
      </li>
    {/each}
  </ul>
</Card>
