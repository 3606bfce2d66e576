<!-- By what both sides of a connection with TLS know each other. -->
<script lang="ts">
  import type { Outlet } from "#lib/api.ts";
  import Field from "#lib/components/common/Field.svelte";
  import Secret from "#lib/components/outlet/Secret.svelte";
  import type { OutletDraft } from "#lib/outlet.svelte.ts";

  let { draft, before, shown = true }: { draft: OutletDraft; before: Outlet | null; shown?: boolean } = $props();
</script>

<details class="sm:col-span-2" open={Boolean(draft.trust || draft.certificate)} data-certificates>
  <summary class="cursor-pointer font-medium">Certificates</summary>
  <div class="mt-3 grid gap-3 sm:grid-cols-2">
    <Field label="Authority of the other side (PEM)" hint="Empty: the authorities that this system knows">
      <textarea class="textarea w-full font-mono text-xs" name="trust" rows="3" bind:value={draft.trust} spellcheck="false"></textarea>
    </Field>
    {#if shown}
      <Field label="Certificate that is shown to it (PEM)">
        <textarea class="textarea w-full font-mono text-xs" name="certificate" rows="3" bind:value={draft.certificate} spellcheck="false"></textarea>
      </Field>
      <Secret label="Key of that certificate (PEM)" name="key" long bind:value={draft.key} {before} />
    {/if}
  </div>
</details>
