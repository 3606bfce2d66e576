<!-- An MQTT broker that messages are published at. -->
<script lang="ts">
  import type { Outlet } from "#lib/api.ts";
  import Field from "#lib/components/common/Field.svelte";
  import Certificates from "#lib/components/outlet/Certificates.svelte";
  import Secret from "#lib/components/outlet/Secret.svelte";
  import type { OutletDraft } from "#lib/outlet.svelte.ts";

  let { draft, before }: { draft: OutletDraft; before: Outlet | null } = $props();
</script>

<Field label="Broker" hint="mqtts:// with TLS, mqtt:// without">
  <input class="input w-full font-mono" name="url" bind:value={draft.url} placeholder="mqtts://broker.harbour.example" required />
</Field>
<Field label="Topic of each message" hint={"{estate}, {fleet}, {device}, {eui}, {model} and {type} are filled in"}>
  <input class="input w-full font-mono" name="topic" bind:value={draft.topic} spellcheck="false" required />
</Field>
<Field label="Account"><input class="input w-full" name="account" bind:value={draft.account} autocomplete="off" /></Field>
<Secret label="Password" name="password" bind:value={draft.password} {before} />
<Field label="Version">
  <select class="select w-full" name="version" bind:value={draft.version}>
    <option value="5">MQTT 5</option>
    <option value="3.1.1">MQTT 3.1.1</option>
  </select>
</Field>
<Field label="Quality of service">
  <select class="select w-full" name="qos" bind:value={draft.qos}>
    <option value={0}>0: at most once</option>
    <option value={1}>1: at least once</option>
    <option value={2}>2: exactly once, as far as the broker</option>
  </select>
</Field>
<label class="flex items-center gap-2 sm:col-span-2">
  <input class="checkbox checkbox-sm" type="checkbox" name="retain" bind:checked={draft.retain} />
  The broker keeps the latest message of each topic (retained)
</label>
{#if draft.version === "5"}
  <details class="sm:col-span-2" open={Boolean(draft.properties || draft.expiresAfter)} data-properties>
    <summary class="cursor-pointer font-medium">Expiry and properties</summary>
    <div class="mt-3 grid gap-3 sm:grid-cols-2">
      <Field label="The broker drops a message after, in seconds" hint="Empty: it does not">
        <input class="input w-full" name="expires" type="number" min="1" max="31536000" bind:value={draft.expiresAfter} />
      </Field>
      <Field label="User properties, one a line" hint={"place = {fleet}; each message has id, type and time as well"}>
        <textarea class="textarea w-full font-mono text-xs" name="properties" rows="3" bind:value={draft.properties} spellcheck="false"></textarea>
      </Field>
    </div>
  </details>
{/if}
<Certificates {draft} {before} />
<fieldset class="sm:col-span-2">
  <label class="flex items-center gap-2">
    <input class="checkbox checkbox-sm" type="checkbox" name="takes-commands" bind:checked={draft.takesCommands} />
    Take commands from this broker: whoever may publish there can send downlinks to the fleet's devices
  </label>
  {#if draft.takesCommands}
    <div class="mt-3 grid gap-3 sm:grid-cols-2">
      <Field label="Topic of commands" hint={"With {device} or {eui}; {fleet} and {estate} as well"}>
        <input class="input w-full font-mono" name="commands" bind:value={draft.commands} spellcheck="false" required />
      </Field>
      <Field label="Topic of answers" hint="Each command is answered, also one that is refused">
        <input class="input w-full font-mono" name="answers" bind:value={draft.answers} spellcheck="false" required />
      </Field>
    </div>
  {/if}
</fieldset>
