<!-- Devices, and why one is refused. -->
<script lang="ts">
  import type { Device } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import type { Filter } from "#lib/components/device/DeviceFilters.svelte";
  import State from "#lib/components/common/State.svelte";
  import { ago, grouped, moment } from "#lib/format.ts";

  type Props = { devices: Device[]; sort: string; chosen: string[]; choose: (name: Filter, value: string) => void };
  let { devices, sort, chosen = $bindable(), choose }: Props = $props();

  /** Sorts by a column; a second click reverses the order. */
  function sortBy(column: string) {
    const now = sort || "name";
    choose("sort", now === column ? `-${column}` : column);
  }
</script>

{#snippet sortable(column: string, words: string)}
  {@const way = sort === `-${column}` ? "descending" : (sort || "name") === column ? "ascending" : "none"}
  <th aria-sort={way}>
    <button class="cursor-pointer" onclick={() => sortBy(column)}>{words}{way === "none" ? "" : way === "ascending" ? " ↑" : " ↓"}</button>
  </th>
{/snippet}

<DataTable class=""
  >{#snippet head()}
    <th class="w-0">
      <input
        class="checkbox checkbox-sm"
        type="checkbox"
        name="all"
        aria-label="All that are listed"
        checked={chosen.length > 0 && devices.every((d) => chosen.includes(d.dev_eui))}
        onchange={(e) => (chosen = e.currentTarget.checked ? devices.map((d) => d.dev_eui) : [])}
      />
    </th>
    {@render sortable("name", "Name")}<th>State</th>{@render sortable("last_heard", "Last heard")}<th class="hidden sm:table-cell">Fleet</th><th
      class="hidden md:table-cell">Model</th
    ><th class="hidden lg:table-cell">Tags</th><th class="hidden md:table-cell">DevEUI</th>{/snippet}
  {#each devices as device (device.dev_eui)}
    <tr class={device.refusal ? "border-transparent" : ""} data-device={device.name}>
      <td><input class="checkbox checkbox-sm" type="checkbox" name="chosen" value={device.dev_eui} aria-label="Choose {device.name}" bind:group={chosen} /></td>
      <td><a class="link font-semibold whitespace-nowrap link-hover" href="/devices/{device.dev_eui}">{device.name}</a></td>
      <td><State state={device.state} /></td>
      <td class="whitespace-nowrap tabular-nums" title={device.last_heard ? moment(device.last_heard) : ""}>{ago(device.last_heard, live.now)}</td>
      <td class="hidden sm:table-cell">{device.fleet}</td>
      <td class="hidden md:table-cell">{device.model ?? "–"}</td>
      <td class="hidden lg:table-cell">
        {#each device.tags as tag (tag)}<button class="badge badge-ghost badge-sm mr-1" onclick={() => choose("tag", tag)}>{tag}</button>{/each}
      </td>
      <td class="hidden font-mono text-[0.85em] whitespace-nowrap md:table-cell">{grouped(device.dev_eui)}</td>
    </tr>
    {#if device.refusal}
      <tr>
        <td></td>
        <td colspan="7" class="pt-0">
          <div class="border-l-4 border-error/60 pl-3">
            <p>{device.refusal.why} <span class="text-base-content/75">({ago(device.refusal.time, live.now)})</span></p>
            <p><b>Next:</b> {device.refusal.next_step}</p>
          </div>
        </td>
      </tr>
    {/if}
  {/each}
</DataTable>
