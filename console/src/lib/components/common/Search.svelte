<!-- One box for everything with a name or an EUI: devices, gateways, and strangers. -->
<script lang="ts">
  import { goto } from "$app/navigation";
  import { api, call, type Found } from "#lib/api.ts";
  import { live } from "#lib/live.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import { ago, grouped } from "#lib/format.ts";
  import { resource } from "#lib/resource.svelte.ts";

  /** How soon after the last key it is looked for. */
  const PAUSE_MS = 150;
  const WORDS = { device: "device", gateway: "gateway", device_stranger: "unregistered device", gateway_stranger: "unregistered gateway" };

  let text = $state("");
  const held = resource(
    async () => {
      const wanted = text.trim();
      if (!wanted) return null;
      const { items: found } = await call(api.GET("/api/v1/estates/{estate}/find", { params: { path: { estate: session.estate }, query: { text: wanted } } }));
      at = 0;
      return found;
    },
    { typing: { key: () => text, pauseMs: PAUSE_MS } },
  );
  const found = $derived(text.trim() ? held.value : null);
  let at = $state(0);
  let input: HTMLInputElement | undefined = $state();

  const where = (one: Found) =>
    ({
      device: `/devices/${one.eui}`,
      gateway: `/gateways/${one.eui}`,
      device_stranger: `/devices?adopt=${one.eui}`,
      gateway_stranger: "/gateways",
    })[one.kind];

  async function go(one: Found | undefined) {
    if (!one) return;
    text = "";
    input?.blur();
    await goto(where(one));
  }

  function key(event: KeyboardEvent) {
    const many = found?.length ?? 0;
    if (event.key === "Escape") text = "";
    else if (event.key === "Enter") void go(found?.[at]);
    else if (event.key === "ArrowDown" && many) at = (at + 1) % many;
    else if (event.key === "ArrowUp" && many) at = (at + many - 1) % many;
    else return;
    event.preventDefault();
  }
</script>

<svelte:window
  onkeydown={(event) => {
    const typing = event.target instanceof HTMLElement && event.target.closest("input, textarea, select");
    if (event.key !== "/" || typing) return;
    event.preventDefault();
    input?.focus();
  }}
/>

<div class="relative w-full sm:w-36 xl:w-40 2xl:w-52" role="search">
  <input
    bind:this={input}
    bind:value={text}
    onkeydown={key}
    class="input input-sm w-full"
    type="search"
    name="search"
    placeholder="Find anything ( / )"
    role="combobox"
    aria-label="Find devices and gateways by name, EUI, address or tag"
    aria-expanded={found !== null}
    aria-controls="found"
    autocomplete="off"
    spellcheck="false"
  />
  {#if found}
    <ul
      id="found"
      role="listbox"
      aria-label="Found"
      class="absolute right-0 z-20 mt-1 max-h-96 w-[min(26rem,92vw)] overflow-y-auto rounded-box border border-base-300 bg-base-100 p-1 shadow-lg"
    >
      {#each found as one, i (`${one.kind} ${one.eui}`)}
        <li role="option" aria-selected={i === at} data-found={one.kind}>
          <a
            href={where(one)}
            class="block rounded-field px-3 py-1.5 {i === at ? 'bg-base-200' : ''}"
            onmouseenter={() => (at = i)}
            onclick={(e) => {
              e.preventDefault();
              void go(one);
            }}
          >
            <span class="font-semibold">{one.name ?? grouped(one.eui)}</span>
            <span class="text-sm text-base-content/75">{WORDS[one.kind]} · {one.about}{one.last_heard ? ` · heard ${ago(one.last_heard, live.now)}` : ""}</span>
            {#if one.name}<span class="block font-mono text-xs text-base-content/75">{grouped(one.eui)}</span>{/if}
          </a>
        </li>
      {:else}
        <li class="px-3 py-1.5 text-base-content/75">Nothing found in names, EUIs, addresses or tags.</li>
      {/each}
    </ul>
  {/if}
</div>
