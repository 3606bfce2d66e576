<!-- Many devices from a CSV file. -->
<script lang="ts">
  import { EventSourceParserStream } from "eventsource-parser/stream";
  import { CallError, type DeviceImportOutcome, type ImportProgress } from "#lib/api.ts";
  import { estateOptions } from "#lib/estateOptions.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import ImportPanel from "#lib/components/common/ImportPanel.svelte";
  import Words from "#lib/components/common/Words.svelte";

  let { done }: { done: () => void } = $props();

  let fleet = $state("");
  let written = $state<ImportProgress | null>(null);

  async function send(csv: Blob, { preview, skipBad }: { preview: boolean; skipBad: boolean }): Promise<DeviceImportOutcome> {
    const query = new URLSearchParams({ preview: String(preview), skip_bad: String(skipBad), ...(fleet ? { fleet } : {}) });
    const answer = await fetch(`/api/v1/estates/${session.estate}/devices/import?${query}`, {
      method: "POST",
      headers: { "content-type": "text/csv", accept: "text/event-stream" },
      body: csv,
    }).catch(() => null);
    if (!answer?.ok || !answer.body) throw new CallError(await answer?.json().catch(() => undefined), answer?.status);
    return await outcomeOf(answer.body).finally(() => (written = null));
  }

  /** Follows the events of an import to its end. Throws a `CallError` if it ends without an outcome. */
  async function outcomeOf(body: ReadableStream<Uint8Array<ArrayBuffer>>): Promise<DeviceImportOutcome> {
    const events = body.pipeThrough(new TextDecoderStream()).pipeThrough(new EventSourceParserStream());
    const reader = events.getReader();
    for (;;) {
      const { done: ended, value } = await reader.read().catch(() => ({ done: true as const, value: undefined }));
      if (ended) throw new CallError(undefined, undefined);
      const said = JSON.parse(value.data);
      if (value.event === "progress") written = said;
      else if (value.event === "outcome") return said;
      else throw new CallError(said, undefined);
    }
  }
</script>

<ImportPanel title="Import devices from a CSV file" eui="DevEUI" {send} {done}>
  {#snippet columns()}
    <Words
      text="The first line names the columns, in any order; each line after it is one device. Common: `dev_eui, join_eui, app_key, name, fleet`. Others: `model, profile, region, class, mac_version, nwk_key, dev_addr, nwk_s_key, app_s_key, hardware, firmware, tags, description`. `label`, the code on a label, stands for both EUIs. A key may be the word `generate`, or `fleet` for the fleet's own."
    />
  {/snippet}
  {#snippet options(changed)}
    <label class="flex items-center gap-2">
      <span class="text-sm text-base-content/75">Fleet for rows without one</span>
      <select class="select select-sm w-44" name="import_fleet" bind:value={fleet} onchange={changed}>
        <option value="">–</option>
        {#each estateOptions.fleets as { slug } (slug)}<option value={slug}>{slug}</option>{/each}
      </select>
    </label>
  {/snippet}
  {#snippet progress()}
    {#if written}
      <progress class="progress w-56" value={written.done} max={written.of} aria-label="Registered"></progress>
      <span class="text-sm text-base-content/75 tabular-nums">{written.done} of {written.of}</span>
    {/if}
  {/snippet}
</ImportPanel>
