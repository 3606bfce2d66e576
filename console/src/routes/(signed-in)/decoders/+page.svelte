<script lang="ts">
  import { api, call, every } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { ago, DECODERS, moment, versionWords } from "#lib/format.ts";
  import { resource } from "#lib/resource.svelte.ts";
  import DataTable from "#lib/components/common/DataTable.svelte";

  const path = $derived({ estate: session.estate });
  const held = resource(
    async () => {
      const [models, failures] = await Promise.all([
        call(api.GET("/api/v1/estates/{estate}/models", { params: { path, query: { limit: 500 } } })),
        every((query) => call(api.GET("/api/v1/estates/{estate}/decode-failures", { params: { path, query } }))),
      ]);
      return { models: models.items, failures };
    },
    { on: (message) => "decode_error" in message && !!message.decode_error && !message.rehearsed },
  );
  const models = $derived(held.value?.models ?? null);
  const failures = $derived(held.value?.failures ?? []);
  const problem = $derived(held.problem);
  const failed = (model: string) => failures.filter((of) => of.model === model);
</script>

<svelte:head><title>Decoders · Keen Heron</title></svelte:head>

<div class="mb-3 flex flex-wrap items-baseline gap-4">
  <h1>Decoders</h1>
  <a class="link text-sm" href="/devices/models">Import models from a catalogue</a>
</div>
<Notice text={problem} />

{#if failures.length > 0}
  <section class="mb-5 rounded-box border border-error/50 p-4" data-failures>
    <h2 class="mb-2 text-error">✕ Uplinks that could not be decoded</h2>
    <ul>
      {#each failures as of (of.device.eui + of.model)}
        <li class="grid gap-x-4 border-t border-base-300 py-2 first:border-t-0 sm:grid-cols-[11rem_1fr_auto]">
          <span
            ><a class="link-hover font-semibold" href="/devices/{of.device.eui}">{of.device.name}</a>
            <span class="block text-sm text-base-content/75">{of.model}</span></span
          >
          <span>
            <b class="tabular-nums">{of.failures}</b>, first <span title={moment(of.first_at)}>{ago(of.first_at, live.now)}</span>, last {ago(
              of.last_at,
              live.now,
            )}
            <span class="block text-error">{of.why}</span>
          </span>
          <a class="btn btn-sm self-start" href="/decoders/{of.model}?message={of.first_message}">Open the first in the workbench</a>
        </li>
      {/each}
    </ul>
  </section>
{/if}

{#if models && models.length > 0}
  <DataTable class="">
    {#snippet head()}<th>Model</th><th>Decoder</th><th class="hidden md:table-cell">Readings</th><th class="hidden sm:table-cell">Changed</th>{/snippet}
    {#each models as model (model.slug)}
      <tr data-model={model.slug}>
        <td
          ><a class="link-hover font-semibold" href="/decoders/{model.slug}">{model.maker} {model.name}</a><span
            class="block font-mono text-[0.85em] text-base-content/75">{model.slug}</span
          ></td
        >
        <td>
          {#if model.flaw}<span class="font-medium text-error">✕ error, not used</span>
          {:else if model.decoder}{DECODERS[model.decoder_kind ?? "script"]}
          {:else}<span class="text-base-content/75">not decoded</span>{/if}
          {#each model.versions ?? [] as version, i (i)}
            <a class="link-hover block text-sm text-base-content/75" href="/decoders/{model.slug}?version={encodeURIComponent(versionWords(version))}"
              >{versionWords(version)}: its own decoder</a
            >
          {/each}
          {#if failed(model.slug).length > 0}<span class="block text-sm text-error"
              >fails on {failed(model.slug).length === 1 ? "1 device" : `${failed(model.slug).length} devices`}</span
            >{/if}
        </td>
        <td class="hidden text-sm md:table-cell">{Object.keys(model.readings ?? {}).join(", ")}</td>
        <td class="hidden text-sm whitespace-nowrap sm:table-cell">{ago(model.changed_at, live.now)}</td>
      </tr>
    {/each}
  </DataTable>
{:else if models}
  <p class="max-w-prose">
    No models yet. A decoder belongs to a model: import models from a <a class="link" href="/devices/models">catalogue</a>, then edit their decoders here.
  </p>
{/if}
