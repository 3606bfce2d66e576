<!-- Which devices are listed. -->
<script module lang="ts">
  export const FILTERS = ["fleet", "state", "tag", "model", "profile", "find", "sort"] as const;
  export type Filter = (typeof FILTERS)[number];
  export type Filters = Record<Filter, string>;
</script>

<script lang="ts">
  import { useEstateOptions } from "#lib/estateOptions.svelte.ts";

  const estateOptions = useEstateOptions();
  let { wanted, choose }: { wanted: Filters; choose: (name: Filter, value: string) => void } = $props();
  const STATES = ["active", "silent", "refused", "never_joined", "never_heard", "disabled"] as const;

  let typing: ReturnType<typeof setTimeout> | undefined;
  function find(text: string) {
    clearTimeout(typing);
    typing = setTimeout(() => choose("find", text.trim()), 200);
  }
</script>

<input
  class="input input-sm w-48"
  type="search"
  name="find"
  value={wanted.find}
  oninput={(e) => find(e.currentTarget.value)}
  placeholder="name, EUI, address, tag"
  aria-label="Find"
/>
<label class="flex items-center gap-2">
  <span>Fleet</span>
  <select class="select select-sm w-36" name="of_fleet" value={wanted.fleet} onchange={(e) => choose("fleet", e.currentTarget.value)}>
    <option value="">all</option>
    {#each estateOptions.fleets as { slug } (slug)}<option value={slug}>{slug}</option>{/each}
  </select>
</label>
<label class="flex items-center gap-2">
  <span>State</span>
  <select class="select select-sm w-32" name="state" value={wanted.state} onchange={(e) => choose("state", e.currentTarget.value)}>
    <option value="">any</option>
    {#each STATES as state (state)}<option value={state}>{state.replace("_", " ")}</option>{/each}
  </select>
</label>
{#each ["tag", "model", "profile"] as const as name (name)}
  {#if wanted[name]}
    <button class="badge badge-ghost" type="button" onclick={() => choose(name, "")} aria-label="Not only those of {name} {wanted[name]}"
      >{name} {wanted[name]} ✕</button
    >
  {/if}
{/each}
