<!-- What to send: as bytes, text or named values, and on which port. -->
<script lang="ts">
  import { PLACEHOLDERS, type DownlinkDraft } from "#lib/downlink.svelte.ts";
  import Field from "#lib/components/common/Field.svelte";

  let { draft }: { draft: DownlinkDraft } = $props();
  const label = $derived(draft.form === "values" ? "Values, as JSON" : draft.form === "text" ? "Text" : "Payload");
</script>

<div class="flex flex-wrap items-end gap-3">
  <Field label="What to send">
    <select class="select select-sm w-36" name="form" bind:value={draft.form}>
      {#if draft.commands}<option value="values">named values</option>{/if}
      <option value="payload">bytes in hex</option>
      <option value="payload_base64">base64</option>
      <option value="text">text</option>
    </select>
  </Field>
  <Field {label} class="min-w-40 flex-1">
    <input
      class="input input-sm w-full font-mono"
      name="payload"
      bind:value={draft.content}
      placeholder={PLACEHOLDERS[draft.form]}
      autocomplete="off"
      spellcheck="false"
    />
  </Field>
  <Field label="Port">
    <input
      class="input input-sm w-20"
      type="number"
      min="1"
      max="223"
      name="port"
      bind:value={draft.port}
      required={draft.form !== "values"}
      placeholder={draft.form === "values" ? "auto" : ""}
    />
  </Field>
</div>
{#if draft.form === "values" && draft.commands?.length}
  <div class="flex flex-wrap items-center gap-1.5 text-sm" role="group" aria-label="Known commands">
    {#each draft.commands as command (command.name)}
      <button class="btn btn-xs" type="button" onclick={() => draft.choose(command)}>{command.name}</button>
    {/each}
  </div>
{/if}
