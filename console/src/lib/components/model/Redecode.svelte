<!-- Decoding stored uplinks again with the current decoder. -->
<script lang="ts">
  import { api, call } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { ago } from "#lib/format.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import Card from "#lib/components/common/Card.svelte";
  import { Action, resource } from "#lib/resource.svelte.ts";

  let { model, flawed }: { model: string; flawed: boolean } = $props();

  const DAYS = { "1": "the last day", "7": "the last week", "30": "the last 30 days", "365": "the last year" };
  let days = $state<keyof typeof DAYS>("7");
  const path = $derived({ estate: session.estate });
  const held = resource(async () => (await call(api.GET("/api/v1/estates/{estate}/jobs", { params: { path, query: { limit: 50 } } }))).items);
  const act = new Action();
  const own = $derived((held.value ?? []).filter((job) => job.wanted.model === model).slice(0, 5));
  const running = $derived(own.some((job) => job.state === "running"));

  const change = async (work: () => Promise<unknown>) => {
    await act.run(work);
    await held.load();
  };

  const begin = () => {
    const from = new Date(Date.now() - Number(days) * 86_400_000).toISOString();
    return change(() => call(api.POST("/api/v1/estates/{estate}/jobs", { params: { path }, body: { model, from } })));
  };
  const stop = (job: string) => change(() => call(api.DELETE("/api/v1/estates/{estate}/jobs/{job}", { params: { path: { ...path, job } } })));

  $effect(() => {
    if (!running) return;
    const often = setInterval(held.load, 500);
    return () => clearInterval(often);
  });
</script>

<Card data-redecode>
  <h2 class="mb-1">History</h2>
  <p class="mb-2 text-sm text-base-content/80">
    Stored readings keep the results of earlier editions. Decode them again with the current one; results are swapped in when all are ready.
  </p>
  <div class="flex flex-wrap items-center gap-3">
    <select class="select select-sm w-44" bind:value={days} aria-label="Period">
      {#each Object.entries(DAYS) as [n, words] (n)}<option value={n}>{words}</option>{/each}
    </select>
    <button class="btn btn-sm" type="button" disabled={running || flawed} onclick={begin}>Decode again</button>
  </div>
  <Notice text={act.problem} />
  {#if own.length > 0}
    <ul class="mt-2 text-sm">
      {#each own as job (job.id)}
        <li class="flex flex-wrap items-center gap-x-3 py-0.5" data-job={job.state}>
          {#if job.state === "running"}
            <progress class="progress progress-primary w-40" value={job.done} max={Math.max(job.total, 1)} aria-label="Decoded"></progress>
            <span class="tabular-nums">{job.done} of {job.total}</span>
            <button class="link" type="button" onclick={() => stop(job.id)}>stop</button>
          {:else}
            <span class={job.state === "done" ? "text-success" : "text-warning"}>{job.state}</span>
            <span>{job.note}</span>
            <span class="text-base-content/75">{ago(job.ended_at, live.now)} by {job.begun_by}</span>
          {/if}
        </li>
      {/each}
    </ul>
  {/if}
</Card>
