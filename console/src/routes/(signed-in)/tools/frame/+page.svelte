<script lang="ts">
  import { goto } from "$app/navigation";
  import { page } from "$app/state";
  import { api, call } from "#lib/api.ts";
  import Notice from "#lib/components/common/Notice.svelte";
  import RegionSelect from "#lib/components/common/RegionSelect.svelte";
  import { session } from "#lib/session.svelte.ts";
  import FrameReport from "#lib/components/tools/FrameReport.svelte";
  import { resource } from "#lib/resource.svelte.ts";

  // The frame stands in the address; keys never do.
  let frame = $state(page.url.searchParams.get("frame") ?? "");
  let region = $state(page.url.searchParams.get("region") ?? "");
  let counter = $state("");
  const keyNames = [
    { name: "app_key", word: "AppKey" },
    { name: "nwk_key", word: "NwkKey (1.1)" },
    { name: "nwk_s_key", word: "NwkSKey" },
    { name: "app_s_key", word: "AppSKey" },
    { name: "f_nwk_s_int_key", word: "FNwkSIntKey (1.1)" },
    { name: "s_nwk_s_int_key", word: "SNwkSIntKey (1.1)" },
    { name: "nwk_s_enc_key", word: "NwkSEncKey (1.1)" },
    { name: "dev_eui", word: "DevEUI (1.1 accept)" },
    { name: "join_eui", word: "JoinEUI (1.1 accept)" },
  ] as const;
  let keys = $state<Record<string, string>>({});

  const examples = [
    { word: "a join-request", frame: "00010000000000aa022a0000000000bb023412d5cc98a9", region: "" },
    { word: "an uplink with MAC commands", frame: "406745230385120003070655020264c6ef1f9ad04c", region: "" },
    { word: "a downlink that sets channels", frame: "606745230305070003450200511122aa33", region: "US915" },
    { word: "a rejoin-request", frame: "c0001300002a0000000000bb020706c4fbcf19", region: "" },
    { word: "one that is cut off", frame: "4067452303859c0102", region: "" },
  ];

  const given = (all: Record<string, string>) => Object.fromEntries(Object.entries(all).filter(([, text]) => text.trim()));
  const question = $derived({ ...given(keys), frame, region: region || null, counter: counter.trim() ? Number(counter) : null });
  const countable = $derived(question.counter === null || Number.isInteger(question.counter));
  const held = resource(
    async () => {
      if (!frame.trim() || !countable) return null;
      const report = await call(api.POST("/api/v1/estates/{estate}/frame", { params: { path: { estate: session.estate } }, body: question }));
      const next = new URLSearchParams({ frame });
      if (region) next.set("region", region);
      void goto(`?${next}`, { replace: true, reset: false });
      return report;
    },
    { typing: { key: () => question, pauseMs: 200 } },
  );
  const report = $derived(frame.trim() && !held.problem ? held.value : null);
  const problem = $derived.by(() => {
    if (!frame.trim()) return "";
    return countable ? held.problem : `Full counter: ${JSON.stringify(counter)} was given; a whole number is needed.`;
  });
</script>

<svelte:head><title>Frame · Keen Heron</title></svelte:head>

<h1 class="mb-3">What is in this frame?</h1>
<form class="mb-4 grid gap-3" onsubmit={(e) => e.preventDefault()}>
  <label class="grid gap-1">
    <span>PHYPayload, in hex or base64</span>
    <textarea class="textarea w-full font-mono" rows="2" spellcheck="false" autocomplete="off" placeholder="40 67 45 23 03 …" bind:value={frame}></textarea>
  </label>
  <div class="flex flex-wrap items-end gap-x-5 gap-y-2">
    <label class="flex items-center gap-2">
      <span>Region</span>
      <RegionSelect width="select-sm w-36" none="of the device" value={region} choose={(name) => (region = name)} />
    </label>
    <label class="flex items-center gap-2">
      <span>Full counter</span>
      <input class="input input-sm w-32 tabular-nums" inputmode="numeric" placeholder="automatic" bind:value={counter} />
    </label>
    <details class="basis-full sm:basis-auto">
      <summary class="cursor-pointer py-1 text-secondary">Use my own keys</summary>
      <div class="mt-2 grid gap-2 sm:grid-cols-2 lg:grid-cols-3">
        {#each keyNames as key (key.name)}
          <label class="grid gap-0.5 text-sm">
            <span>{key.word}</span>
            <input
              class="input input-sm w-full font-mono"
              type={key.name.endsWith("key") ? "password" : "text"}
              autocomplete="off"
              value={keys[key.name] ?? ""}
              oninput={(e) => (keys = { ...keys, [key.name]: e.currentTarget.value })}
            />
          </label>
        {/each}
      </div>
    </details>
  </div>
</form>
<Notice text={problem} />

{#if report}
  <FrameReport {report} />
{:else if !problem}
  <section class="rounded-box border border-base-300 p-5">
    <p>Paste a frame as a gateway, a log or a sniffer gave it. If it is from a registered device, its MIC is checked and its payload decrypted.</p>
    <p class="mt-2">Examples:</p>
    <ul class="mt-1 flex flex-wrap gap-2">
      {#each examples as example (example.word)}
        <li><button class="btn btn-sm" onclick={() => ((frame = example.frame), (region = example.region))}>{example.word}</button></li>
      {/each}
    </ul>
  </section>
{/if}
