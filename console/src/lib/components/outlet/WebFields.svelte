<!-- A web server that takes messages. -->
<script lang="ts">
  import type { Outlet } from "#lib/api.ts";
  import Field from "#lib/components/common/Field.svelte";
  import Certificates from "#lib/components/outlet/Certificates.svelte";
  import Secret from "#lib/components/outlet/Secret.svelte";
  import type { OutletDraft } from "#lib/outlet.svelte.ts";

  let { draft, before }: { draft: OutletDraft; before: Outlet | null } = $props();
  const kept = $derived(before?.secrets_set.filter((one) => one.startsWith("headers.")).map((one) => one.slice("headers.".length)) ?? []);
</script>

<Field label="Address" hint="Each message is sent there by POST, as JSON">
  <input class="input w-full font-mono" name="url" type="url" bind:value={draft.url} placeholder="https://harbour.example/keen-heron" required />
</Field>
<Secret label="Signing secret" name="signing" hint="16 to 200 characters; requests are signed with it (HMAC-SHA-256)" bind:value={draft.signing} {before} />
<Field label="Messages in one request" hint="More than one are sent as a JSON array">
  <input class="input w-full" name="together" type="number" min="1" max="1000" bind:value={draft.together} />
</Field>
{#if draft.together > 1}
  <Field label="A message waits for others, in seconds">
    <input class="input w-full" name="within" type="number" min="0" max="300" step="0.1" bind:value={draft.within} />
  </Field>
{/if}
<details class="sm:col-span-2" open={Boolean(draft.account || draft.headers)} data-credentials>
  <summary class="cursor-pointer font-medium">Credentials and headers</summary>
  <div class="mt-3 grid gap-3 sm:grid-cols-2">
    <Secret label="Bearer token" name="bearer" hint="Sent in the header Authorization" bind:value={draft.bearer} {before} />
    <Field label="Account for basic credentials" hint="Instead of a bearer token">
      <input class="input w-full" name="account" bind:value={draft.account} autocomplete="off" />
    </Field>
    <Secret label="Its password" name="password" bind:value={draft.password} {before} />
    <Field label="Headers, one a line" hint="X-Harbour = north">
      <textarea class="textarea w-full font-mono text-xs" name="headers" rows="3" bind:value={draft.headers} spellcheck="false"></textarea>
    </Field>
    <Secret
      label="Headers with secrets in them, one a line"
      name="headers-with-secrets"
      hint={kept.length > 0
        ? `Set, and not shown: ${kept.join(", ")}. Write those that change. To remove one, write its name and = only.`
        : "They are not shown any more once they are saved"}
      long
      bind:value={draft.secretHeaders}
      before={null}
    />
  </div>
</details>
<Certificates {draft} {before} />
