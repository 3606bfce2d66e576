<!-- Decoding stored uplinks again with the current decoder. -->
<script lang="ts">
  import { api, say, type Job } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { ago } from "#lib/format.ts";
  import Notice from "#lib/components/common/Notice.svelte";

  let { model, flawed }: { model: string; flawed: boolean } = $props();

  const DAYS = { "1": "the last day", "7": "the last week", "30": "the last 30 days", "365": "the last year" };
  let days = $state<keyof typeof DAYS>("7");
  let jobs = $state<Job[]>([]);
  let problem = $state("");
  const own = $derived(jobs.filter((job) => job.wanted.model === model).slice(0, 5));
  const running = $derived(own.some((job) => job.state === "running"));
  const path = $derived({ estate: session.estate });

  async function load() {
    const { data } = await api.GET("/api/v1/estates/{estate}/jobs", { params: { path, query: { limit: 50 } } });
    jobs = data?.items ?? jobs;
  }

  async function begin() {
    const from = new Date(Date.now() - Number(days) * 86_400_000).toISOString();
    const { data, error } = await api.POST("/api/v1/estates/{estate}/jobs", { params: { path }, body: { model, from } });
    problem = data ? "" : say(error);
    await load();
  }

  async function stop(job: string) {
    const { error } = await api.DELETE("/api/v1/estates/{estate}/jobs/{job}", { params: { path: { ...path, job } } });
    problem = error ? say(error) : "";
    await load();
  }

  $effect(() => {
    void load();
  });
  $effect(() => {
    if (!running) return;
    const often = setInterval(load, 500);
    return () => clearInterval(often);
  });
</script>

<section class="rounded-box border border-base-300 p-4" data-anew>
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
  <Notice text={problem} />
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
</section>
