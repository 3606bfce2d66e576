<!-- Sets up an outlet, or changes one: which messages, what is sent of each, and where to. -->
<script lang="ts">
  import { api, call, type MessageType, type Outlet } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import { useEstateOptions } from "#lib/estateOptions.svelte.ts";
  import { Action } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  let { outlet = null, done, cancel }: { outlet?: Outlet | null; done: (made: Outlet) => void; cancel?: () => void } = $props();
  const TYPES: { id: MessageType; word: string }[] = [
    { id: "uplink", word: "uplinks" },
    { id: "join", word: "joins" },
    { id: "refused", word: "refused frames" },
    { id: "downlink", word: "downlinks, each stage" },
    { id: "notice", word: "notices" },
  ];
  const options = useEstateOptions();
  // The form begins with what is set, and is not changed while somebody types.
  // svelte-ignore state_referenced_locally
  const before = outlet;
  const webhook = before?.to.webhook;

  let slug = $state(before?.slug ?? "");
  let url = $state(webhook?.url ?? "");
  let fleet = $state(before?.fleet ?? "");
  let types = $state<MessageType[]>(before?.types ?? []);
  let tag = $state(before?.tag ?? "");
  let model = $state(before?.model ?? "");
  const givenShape = before?.shape ?? "message";
  let shape = $state<"message" | "flat" | "fields">(typeof givenShape === "string" ? givenShape : "fields");
  let fields = $state(typeof givenShape === "string" ? "id\ntime\ndevice.eui\nreadings" : givenShape.fields.join("\n"));
  let together = $state(webhook?.together?.most ?? 1);
  let within = $state(webhook?.together?.within_s ?? 1);
  let retryHours = $state((before?.retry_for_s ?? 21_600) / 3600);
  let signing = $state("");
  let bearer = $state("");

  const act = new Action();
  const isSet = (name: string) => before?.secrets_set.includes(name) ?? false;
  const hint = (name: string) => (isSet(name) ? "One is set, and not shown; leave this empty to keep it." : "");

  function settings() {
    const paths = fields.split("\n").map((line) => line.trim());
    return {
      slug,
      fleet: fleet || null,
      types,
      tag: tag.trim() || null,
      model: model || null,
      shape: shape === "fields" ? { fields: paths.filter((path) => path) } : shape,
      retry_for_s: Math.max(1, retryHours * 3600),
      to: { webhook: { url: url.trim(), together: together > 1 ? { most: together, within_s: within } : null } },
      secrets: { ...(signing ? { signing } : {}), ...(bearer ? { bearer } : {}) },
    };
  }

  async function save(event: SubmitEvent) {
    event.preventDefault();
    const body = settings();
    const made = await act.run(() =>
      before
        ? call(api.PATCH("/api/v1/estates/{estate}/outlets/{outlet}", { params: { path: { estate: session.estate, outlet: before.slug } }, body }))
        : call(api.POST("/api/v1/estates/{estate}/outlets", { params: { path: { estate: session.estate } }, body })),
    );
    if (made) done(made);
  }
</script>

<Card title={before ? "Settings" : "New outlet"} tag="form" onsubmit={save} data-outlet-form>
  <div class="grid gap-3 sm:grid-cols-2">
    <Field label="Short name" hint="Lower-case letters, digits and dashes">
      <input class="input w-full" name="slug" bind:value={slug} placeholder="harbour-office" required />
    </Field>
    <Field label="Address" hint="Each message is sent there by POST, as JSON">
      <input class="input w-full font-mono" name="url" type="url" bind:value={url} placeholder="https://harbour.example/keen-heron" required />
    </Field>
    <Field label="Fleet">
      <select class="select w-full" name="fleet" bind:value={fleet}>
        <option value="">all fleets of the estate</option>
        {#each options.fleets as one (one.slug)}<option value={one.slug}>{one.name}</option>{/each}
      </select>
    </Field>
    <fieldset>
      <legend class="text-sm text-base-content/75">Messages (none chosen: all)</legend>
      <div class="mt-1 flex flex-wrap gap-x-4 gap-y-1">
        {#each TYPES as one (one.id)}
          <label class="flex items-center gap-1.5"
            ><input class="checkbox checkbox-sm" type="checkbox" name="types" value={one.id} bind:group={types} /> {one.word}</label
          >
        {/each}
      </div>
    </fieldset>
    <Field label="Signing secret" hint={hint("signing") || "16 to 200 characters; requests are signed with it (HMAC-SHA-256)"}>
      <input class="input w-full font-mono" name="signing" bind:value={signing} autocomplete="off" spellcheck="false" minlength="16" maxlength="200" />
    </Field>
    <Field label="Bearer token" hint={hint("bearer") || "Sent in the header Authorization"}>
      <input class="input w-full font-mono" name="bearer" bind:value={bearer} autocomplete="off" spellcheck="false" />
    </Field>
  </div>
  <details class="mt-4">
    <summary class="cursor-pointer font-medium">More: shape, batches, devices, retries</summary>
    <div class="mt-3 grid gap-3 sm:grid-cols-2">
      <Field label="What is sent of each">
        <select class="select w-full" name="shape" bind:value={shape}>
          <option value="message">the message as it is documented</option>
          <option value="flat">one flat object of names and values</option>
          <option value="fields">chosen fields</option>
        </select>
      </Field>
      {#if shape === "fields"}
        <Field label="Fields, one a line" hint="For example readings.water_level.value">
          <textarea class="textarea w-full font-mono" name="fields" rows="4" bind:value={fields}></textarea>
        </Field>
      {/if}
      <Field label="Messages in one request" hint="More than one are sent as a JSON array">
        <input class="input w-full" name="together" type="number" min="1" max="1000" bind:value={together} />
      </Field>
      {#if together > 1}
        <Field label="A message waits for others, in seconds">
          <input class="input w-full" name="within" type="number" min="0" max="300" step="0.1" bind:value={within} />
        </Field>
      {/if}
      <Field label="Only devices with this tag"><input class="input w-full" name="tag" bind:value={tag} /></Field>
      <Field label="Only devices of this model">
        <select class="select w-full" name="model" bind:value={model}>
          <option value="">any model</option>
          {#each options.models as one (one.slug)}<option value={one.slug}>{one.name}</option>{/each}
        </select>
      </Field>
      <Field label="Try again for, in hours" hint="Then a message that is not taken becomes a dead letter">
        <input class="input w-full" name="retry" type="number" min="0.0003" max="168" step="any" bind:value={retryHours} />
      </Field>
    </div>
  </details>
  {#if act.problem}<div class="mt-3"><Notice text={act.problem} /></div>{/if}
  <div class="mt-4 flex gap-2">
    <button class="btn btn-primary" disabled={act.busy}>{before ? "Save" : "Add outlet"}</button>
    {#if cancel}<button class="btn btn-ghost" type="button" onclick={cancel}>Cancel</button>{/if}
  </div>
</Card>
