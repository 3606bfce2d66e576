<!-- Drive tests: measurements from elsewhere that join the survey. -->
<script lang="ts">
  import { api, call, every, type DriveTest, type DriveTestEffect } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Confirm from "#lib/components/common/Confirm.svelte";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import { moment } from "#lib/format.ts";
  import { Action, resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  let { changed }: { changed: () => void } = $props();
  const COLUMNS = ["time", "latitude_deg", "longitude_deg", "gateway", "rssi_dbm", "snr_db", "spreading_factor", "data_rate", "power_dbm", "device", "counter"];
  const path = $derived({ estate: session.estate });
  const held = resource(() => every((query) => call(api.GET("/api/v1/estates/{estate}/survey/imports", { params: { path, query } }))));
  let file = $state<File | null>(null);
  let name = $state("");
  let columns = $state<Record<string, string>>({});
  let effect = $state.raw<DriveTestEffect | null>(null);
  const act = new Action();

  async function send(preview: boolean) {
    const chosen = file;
    if (!chosen) return;
    const body = { name: name || chosen.name.replace(/\.[^.]*$/, ""), columns: used(), csv: await chosen.text(), preview };
    effect = (await act.run(() => call(api.POST("/api/v1/estates/{estate}/survey/imports", { params: { path }, body })))) ?? null;
    if (effect?.done) {
      [file, name, columns] = [null, "", {}];
      await held.load();
      changed();
    }
  }

  /** Columns that were passed over, and what they are said to be. */
  function used(): Record<string, string> {
    return Object.fromEntries(Object.entries(columns).filter(([, ours]) => ours !== ""));
  }

  async function choose(event: Event & { currentTarget: HTMLInputElement }) {
    file = event.currentTarget.files?.[0] ?? null;
    [columns, effect] = [{}, null];
    await send(true);
  }

  async function remove(one: DriveTest) {
    await act.run(() => call(api.DELETE("/api/v1/estates/{estate}/survey/imports/{import}", { params: { path: { ...path, import: one.name } } })));
    await held.load();
    changed();
  }
  const offered = $derived([...new Set([...Object.keys(columns), ...(effect?.passed_over ?? [])])]);
</script>

<Notice text={act.problem || held.problem} />
{#if held.value && held.value.length > 0}
  <DataTable>
    {#snippet head()}<th>Drive test</th><th class="text-right">Uplinks</th><th class="text-right">Heard</th><th class="hidden sm:table-cell">Begun</th><th
        class="hidden md:table-cell">Imported by</th
      ><th></th>{/snippet}
    {#each held.value as one (one.name)}
      <tr data-drive-test={one.name}>
        <td class="font-semibold">{one.name}</td>
        <td class="text-right tabular-nums">{one.uplinks}</td>
        <td class="text-right tabular-nums">{one.heard}</td>
        <td class="hidden sm:table-cell">{one.from ? moment(one.from) : "–"}</td>
        <td class="hidden md:table-cell">{one.imported_by}</td>
        <td class="text-right">
          {#if session.may("gateways")}
            <Confirm label="Remove" what="Its measurements leave the survey." sure="Remove the drive test" run={() => remove(one)} />
          {/if}
        </td>
      </tr>
    {/each}
  </DataTable>
{/if}
{#if session.may("gateways")}
  <Card class="mt-3" title="Import a drive test" data-import>
    <p class="max-w-4xl text-sm text-base-content/80">
      A CSV file with a row for each gateway that heard an uplink. A row without RSSI was heard by nobody. Columns with usual names are known; say of others
      what they are.
    </p>
    <div class="mt-3 flex flex-wrap items-center gap-3">
      <input class="file-input" type="file" accept=".csv,.txt,text/csv" onchange={choose} aria-label="A CSV file" />
      <input class="input w-56" placeholder="Name" name="name" bind:value={name} aria-label="Name of the drive test" />
      {#if effect && !effect.done}
        <button class="btn" type="button" disabled={act.busy} onclick={() => send(true)}>Preview</button>
        <button class="btn btn-primary" type="button" disabled={act.busy || effect.import.uplinks === 0} onclick={() => send(false)}>
          Import {effect.import.uplinks} uplinks
        </button>
      {/if}
    </div>
    {#if offered.length > 0}
      <div class="mt-3 flex flex-wrap gap-x-5 gap-y-2">
        {#each offered as theirs (theirs)}
          <label class="flex items-center gap-2 text-sm">
            <span class="font-mono">{theirs}</span> is
            <select
              class="select select-sm w-44"
              value={columns[theirs] ?? ""}
              onchange={(event) => {
                columns[theirs] = event.currentTarget.value;
                void send(true);
              }}
            >
              <option value="">passed over</option>
              {#each COLUMNS as ours (ours)}<option value={ours}>{ours}</option>{/each}
            </select>
          </label>
        {/each}
      </div>
    {/if}
    {#if effect}
      <p class="mt-3 text-sm" data-effect>
        {effect.import.uplinks} uplinks, of which {effect.import.heard} were heard{effect.done ? ", were imported." : "."}
        {#if effect.left_out > 0}{effect.left_out} rows are left out:{/if}
      </p>
      <ul class="text-sm">
        {#each effect.wrong as row (row.line)}<li>line {row.line}: {row.problem.detail ?? row.problem.title}</li>{/each}
      </ul>
    {/if}
  </Card>
{/if}
