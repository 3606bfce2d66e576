<!-- A table of a database, or files on the service's machine. -->
<script lang="ts">
  import type { Outlet } from "#lib/api.ts";
  import Field from "#lib/components/common/Field.svelte";
  import Certificates from "#lib/components/outlet/Certificates.svelte";
  import Secret from "#lib/components/outlet/Secret.svelte";
  import type { OutletDraft } from "#lib/outlet.svelte.ts";

  let { draft, before }: { draft: OutletDraft; before: Outlet | null } = $props();
</script>

{#if draft.kind === "sql"}
  <Field label="Database" hint="postgres:// or mariadb://, with the database's name">
    <input class="input w-full font-mono" name="url" bind:value={draft.url} placeholder="postgres://db.harbour.example/quay" required />
  </Field>
  <Field label="Table"><input class="input w-full font-mono" name="table" bind:value={draft.table} spellcheck="false" required /></Field>
  <Field label="Account"><input class="input w-full" name="account" bind:value={draft.account} autocomplete="off" required /></Field>
  <Secret label="Password" name="password" bind:value={draft.password} {before} />
  <Field class="sm:col-span-2" label="Columns, one a line: column = field : kind" hint="Kinds: text, number, integer, boolean, time">
    <textarea class="textarea w-full font-mono text-sm" name="columns" rows="5" bind:value={draft.columns} spellcheck="false" required></textarea>
  </Field>
  <label class="flex items-center gap-2">
    <input class="checkbox checkbox-sm" type="checkbox" name="create" bind:checked={draft.create} /> Create the table if there is none
  </label>
  <label class="flex items-center gap-2">
    <input class="checkbox checkbox-sm" type="checkbox" name="without-tls" bind:checked={draft.withoutTls} /> Connect without TLS
  </label>
  {#if !draft.withoutTls}<Certificates {draft} {before} shown={false} />{/if}
{:else}
  <Field label="A new file begins">
    <select class="select w-full" name="rotate" bind:value={draft.rotate}>
      <option value="day">each day (UTC)</option>
      <option value="hour">each hour</option>
    </select>
  </Field>
  <Field label="A file is full at, in MB"><input class="input w-full" name="file" type="number" min="1" max="1024" bind:value={draft.fileMb} /></Field>
  <Field label="The folder holds at most, in MB" hint="Beyond that the oldest file is removed">
    <input class="input w-full" name="folder" type="number" min="2" max="102400" bind:value={draft.folderMb} />
  </Field>
{/if}
