<script lang="ts">
  import { api, call, every, type Model } from "#lib/api.ts";
  import CatalogueImport from "#lib/components/model/CatalogueImport.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { DECODERS, versionWords } from "#lib/format.ts";
  import DataTable from "#lib/components/common/DataTable.svelte";
  import { resource } from "#lib/resource.svelte.ts";

  /** How many tests it has, of payloads and of commands. */
  function tests(model: Model) {
    const count = (model.tests?.length ?? 0) + (model.commands?.length ?? 0);
    return count === 0 ? "" : `, ${count} ${count === 1 ? "test" : "tests"}`;
  }

  const path = $derived({ estate: session.estate });

  const held = resource(async () => {
    const [models, sources] = await Promise.all([
      call(api.GET("/api/v1/estates/{estate}/models", { params: { path, query: { limit: 500 } } })),
      every((query) => call(api.GET("/api/v1/estates/{estate}/catalogue", { params: { path, query } }))),
    ]);
    return { models: models.items, sources };
  });
  const models = $derived(held.value?.models ?? null);
  const sources = $derived(held.value?.sources ?? []);
  const problem = $derived(held.problem);
</script>

<svelte:head><title>Models · Keen Heron</title></svelte:head>

<p class="mb-1 text-sm"><a class="link link-hover" href="/devices">Devices</a> ›</p>
<h1 class="mb-3">Models</h1>
<Notice text={problem} />

{#if session.may("decoders")}
  <CatalogueImport {sources} done={held.load} />
{/if}

{#if models && models.length > 0}
  <DataTable class=""
    >{#snippet head()}<th>Model</th><th>Maker and name</th><th>Payloads</th><th class="hidden md:table-cell">Readings</th><th>From</th>{/snippet}
    {#each models as model (model.slug)}
      <tr data-model={model.slug} class={model.flaw ? "border-transparent" : ""}>
        <td class="font-mono text-[0.9em] whitespace-nowrap"><a class="link link-hover" href="/devices?model={model.slug}">{model.slug}</a></td>
        <td>{model.maker} {model.name}</td>
        <td>
          {#if model.flaw}<span class="font-medium text-error">✕ error, not used</span>
          {:else if model.decoder}<a class="link link-hover" href="/decoders/{model.slug}">{DECODERS[model.decoder_kind ?? "script"]}</a>{tests(model)}
          {:else}not decoded{/if}
          {#each model.versions ?? [] as version, i (i)}
            <span class="block text-sm text-base-content/75">{versionWords(version)}: its own decoder</span>
          {/each}
        </td>
        <td class="hidden text-sm md:table-cell"
          >{Object.entries(model.readings ?? {})
            .map(([name, rule]) => `${name} ${rule.unit ?? ""}`.trim())
            .join(", ")}</td
        >
        <td>
          {model.source ?? "made here"}
          {#if model.edited.length > 0}<span class="block text-sm text-warning">edited here: {model.edited.join(", ")}</span>{/if}
        </td>
      </tr>
      {#if model.flaw}
        <tr><td colspan="5" class="pt-0"><p class="border-l-4 border-error/60 pl-3">{model.flaw}</p></td></tr>
      {/if}
    {/each}
  </DataTable>
{:else if models}
  <p class="max-w-prose">
    No models yet. A model holds the radio settings and the decoder of a make of device, so registering a device takes only its EUIs and its key. Twelve models
    ship with the service: import them above.
  </p>
{/if}
