<!-- A device's keys, shown on request, in every form its firmware may want them in. -->
<script lang="ts">
  import { api, call, type ShownKeys } from "#lib/api.ts";
  import { session } from "#lib/session.svelte.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import Card from "#lib/components/common/Card.svelte";
  import { Action } from "#lib/resource.svelte.ts";

  const FORMS: Record<string, string> = { hex: "hex", c_array: "C array" };
  const ORDERS: Record<string, string> = { msb_first: "most significant byte first", lsb_first: "least significant byte first" };

  let { eui }: { eui: string } = $props();
  let keys = $state<ShownKeys | null>(null);
  let form = $state("hex");
  let order = $state("msb_first");
  let copied = $state("");
  const act = new Action();

  // Keys are written in one order only.
  const shown = $derived(
    (keys?.forms ?? []).filter((f, _, all) => f.form === form && (f.order === order || !all.some((o) => o.field === f.field && o.order === order))),
  );

  $effect(() => {
    void eui;
    keys = null;
  });

  async function show() {
    const params = { path: { estate: session.estate, eui } };
    keys = (await act.run(() => call(api.GET("/api/v1/estates/{estate}/devices/{eui}/keys", { params })))) ?? null;
  }

  async function copy(field: string, text: string) {
    await navigator.clipboard.writeText(text);
    copied = field;
  }
</script>

<Card data-keys>
  <div class="flex flex-wrap items-center gap-3">
    <h2>Keys for the firmware</h2>
    {#if keys}
      <button class="btn btn-sm" type="button" onclick={() => (keys = null)}>Hide</button>
    {:else}
      <button class="btn btn-sm" type="button" onclick={show}>Show keys</button>
    {/if}
  </div>
  <Notice text={act.problem} />
  {#if keys}
    <div class="mt-2 flex flex-wrap gap-3">
      <select class="select select-sm w-32" bind:value={form} aria-label="Form">
        {#each Object.entries(FORMS) as [value, words] (value)}<option {value}>{words}</option>{/each}
      </select>
      <select class="select select-sm w-64" bind:value={order} aria-label="Byte order of EUIs and address">
        {#each Object.entries(ORDERS) as [value, words] (value)}<option {value}>{words}</option>{/each}
      </select>
    </div>
    <dl class="mt-3 grid gap-2">
      {#each shown as { field, text, order: has } (field)}
        <div class="flex flex-wrap items-baseline gap-x-3" data-key={field}>
          <dt class="w-28 text-base-content/75">{field}</dt>
          <dd class="min-w-0 flex-1 font-mono text-[0.85em] break-all">{text}</dd>
          <button class="btn btn-xs" type="button" onclick={() => copy(field, text)} aria-label="Copy {field}">{copied === field ? "copied" : "copy"}</button>
          {#if has !== order}<dd class="w-full pl-31 text-sm text-base-content/75">in the standard's order, whichever order EUIs are in</dd>{/if}
        </div>
      {/each}
    </dl>
  {:else}
    <p class="mt-1 text-sm text-base-content/75">Hidden. Each view is recorded in the audit log with your name.</p>
  {/if}
</Card>
