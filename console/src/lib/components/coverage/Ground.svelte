<!-- The ground: files of heights and of cover, where they reach, and where they have holes. -->
<script lang="ts">
  import { api, call, type GroundFile, type GroundKind } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Confirm from "#lib/components/common/Confirm.svelte";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import Empty from "#lib/components/common/Empty.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import PlaceMap from "#lib/components/common/PlaceMap.svelte";
  import { moment } from "#lib/format.ts";
  import { groundTiles } from "#lib/ground.ts";
  import { Action, resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  const path = $derived({ estate: session.estate });
  const held = resource(() => call(api.GET("/api/v1/estates/{estate}/ground", { params: { path } })));
  const act = new Action();
  let file = $state<File | null>(null);
  let name = $state("");
  let kind = $state<GroundKind | "">("");
  let holes = $state(true);

  const ground = $derived(held.value);
  const boxes = $derived((ground?.files ?? []).filter((one) => !one.problem).map(({ name, raster }) => ({ name, extent: raster.extent })));
  const over = $derived(
    holes && ground?.extent
      ? { url: groundTiles(session.estate, { edition: ground.edition, view: "holes" }), extent: ground.extent, maxLevel: ground.max_level }
      : null,
  );

  function choose(event: Event & { currentTarget: HTMLInputElement }) {
    file = event.currentTarget.files?.[0] ?? null;
    name = file?.name ?? "";
  }

  async function add(event: SubmitEvent) {
    event.preventDefault();
    const chosen = file;
    if (!chosen || !kind) return;
    // The file goes as it is.
    const raw = { body: chosen as never, bodySerializer: (body: unknown) => body as never, headers: { "content-type": "application/octet-stream" } };
    const query = { name: name || chosen.name, kind };
    const made = await act.run(() => call(api.POST("/api/v1/estates/{estate}/ground/files", { params: { path, query }, ...raw })));
    if (!made) return;
    [file, name, kind] = [null, "", ""];
    await held.load();
  }

  async function remove(one: GroundFile) {
    await act.run(() => call(api.DELETE("/api/v1/estates/{estate}/ground/files/{file}", { params: { path: { ...path, file: one.name } } })));
    await held.load();
  }

  function values({ kind, raster }: GroundFile): string {
    const unit = kind === "heights" ? " m" : "";
    return raster.least == null || raster.most == null ? kind : `${kind}, ${Math.round(raster.least)} to ${Math.round(raster.most)}${unit}`;
  }

  const share = ({ raster }: GroundFile) => ((100 * raster.holes) / (raster.columns * raster.rows)).toFixed(1);
  const millions = (cells: number) => (cells / 1e6).toFixed(1);
</script>

<Notice text={act.problem || held.problem} />
{#if ground}
  {#if ground.files.length === 0}
    <Empty title="No files of the ground here yet">
      <p class="my-2">Without heights, forecasts and links are computed as flat sea. Add GeoTIFF files of heights and of land cover, or SRTM height files.</p>
      <code class="block rounded-field bg-base-200 p-3 font-mono text-sm">heron ground add heights.tif</code>
    </Empty>
  {:else}
    <div class="mb-2 flex flex-wrap items-center gap-x-5 gap-y-2 text-sm">
      <label class="flex items-center gap-2"><input class="checkbox checkbox-sm" type="checkbox" bind:checked={holes} /> Stripe holes</label>
      <p class="text-base-content/80">Where several files have a value, the first in the list counts. A place without a height is computed as sea.</p>
    </div>
    {#key ground.edition}
      <PlaceMap points={[]} {boxes} {over} opacity={1} label="Map of the ground's files" height="26rem" />
    {/key}
    <DataTable class="mt-3 table-sm">
      {#snippet head()}<th>File</th><th>Values</th><th class="hidden text-right sm:table-cell">Cell</th><th class="hidden text-right md:table-cell">Cells</th
        ><th class="text-right">Holes</th><th class="hidden lg:table-cell">Added</th><th></th>{/snippet}
      {#each ground.files as one, n (n)}
        <tr data-ground-file={one.name}>
          <td class="font-semibold">
            {one.name}
            {#if one.problem}<p class="text-sm font-normal text-error">{one.problem}</p>{/if}
            {#if one.raster.description}<p class="text-xs font-normal text-base-content/75">{one.raster.description}</p>{/if}
          </td>
          <td>{values(one)}</td>
          <td class="hidden text-right tabular-nums sm:table-cell">{Math.round(Math.max(one.raster.cell_width_m, one.raster.cell_height_m))} m</td>
          <td class="hidden text-right tabular-nums md:table-cell">{one.raster.columns} × {one.raster.rows}</td>
          <td class="text-right tabular-nums">{share(one)} %</td>
          <td class="hidden lg:table-cell">{one.by_operator ? "by the operator, for all estates" : `${moment(one.added_at ?? "")} by ${one.added_by}`}</td>
          <td class="text-right">
            {#if session.may("gateways") && !one.by_operator}
              <Confirm label="Remove" what="Forecasts made of it are kept." sure="Remove the file" run={() => remove(one)} />
            {/if}
          </td>
        </tr>
      {/each}
    </DataTable>
  {/if}
  {#if session.may("gateways")}
    <Card class="mt-3" tag="form" title="Add a file" onsubmit={add} data-add-ground>
      <p class="max-w-4xl text-sm text-base-content/80">
        GeoTIFF in degrees or UTM, or an SRTM height file (.hgt). {millions(ground.cells)} of {millions(ground.most_cells)} million cells are used.
      </p>
      <div class="mt-3 flex flex-wrap items-end gap-3">
        <input class="file-input" type="file" accept=".tif,.tiff,.hgt,image/tiff" onchange={choose} aria-label="A file of the ground" />
        <Field label="Name"><input class="input w-56" name="name" bind:value={name} /></Field>
        <Field label="Its values are">
          <select class="select w-44" name="kind" bind:value={kind}>
            <option value="" disabled>choose</option>
            <option value="heights">heights in metres</option>
            <option value="cover">classes of cover</option>
          </select>
        </Field>
        <button class="btn btn-primary" disabled={act.busy || !file || !kind}>Add</button>
      </div>
    </Card>
  {/if}
{:else}
  <Loading />
{/if}
