<!-- A secret of an outlet: it can be set, and is never shown. -->
<script lang="ts">
  import type { Outlet } from "#lib/api.ts";
  import Field from "#lib/components/common/Field.svelte";

  type Props = { label: string; name: string; hint?: string; long?: boolean; value: string; before: Outlet | null };
  let { label, name, hint = "", long = false, value = $bindable(), before }: Props = $props();
  const set = $derived(before?.secrets_set.some((one) => one === name || one.startsWith(`${name}.`)) ?? false);
</script>

<Field {label} hint={set ? "One is set, and not shown; leave this empty to keep it." : hint}>
  {#if long}
    <textarea class="textarea w-full font-mono text-xs" {name} rows="3" bind:value autocomplete="off" spellcheck="false"></textarea>
  {:else}
    <input class="input w-full font-mono" {name} bind:value autocomplete="off" spellcheck="false" />
  {/if}
</Field>
