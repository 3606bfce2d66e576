<script lang="ts">
  import type { Snippet } from "svelte";
  import { page } from "$app/state";
  import { live } from "#lib/live.svelte.ts";
  import Heron from "#lib/components/common/Heron.svelte";
  import Outage from "#lib/components/common/Outage.svelte";
  import Search from "#lib/components/common/Search.svelte";
  import { session } from "#lib/session.svelte.ts";
  import { times } from "#lib/times.svelte.ts";
  import Loading from "#lib/components/common/Loading.svelte";

  let { children }: { children: Snippet } = $props();
  let moreOpen = $state(false);

  // What needs attention; then in the order of the work: first be heard, then join, then watch.
  const places = [
    { href: "/watch", word: "Watch" },
    { href: "/gateways", word: "Gateways" },
    { href: "/devices", word: "Devices" },
    { href: "/traffic", word: "Traffic" },
    { href: "/decoders", word: "Decoders" },
    { href: "/airtime", word: "Airtime" },
    { href: "/coverage", word: "Coverage" },
    { href: "/outlets", word: "Outlets" },
    { href: "/tools", word: "Tools" },
    { href: "/people", word: "People" },
  ];
  // Who has only something shared sees devices and what comes of them.
  const shared = ["/watch", "/devices", "/traffic"];
  const open = $derived(session.whole ? places : places.filter((place) => shared.includes(place.href)));
  // Five fit under a thumb; the rest is behind More.
  const thumb = $derived(open.length > 6 ? open.slice(0, 5) : open);
  const more = $derived(open.slice(thumb.length));
  const here = (href: string) => (page.url.pathname.startsWith(href) ? ("page" as const) : undefined);

  $effect(() => {
    if (session.estate) return live.open(session.estate);
  });

  let theme = $state(localStorage.getItem("theme") ?? (matchMedia("(prefers-color-scheme: dark)").matches ? "dusk" : "marsh"));
  $effect(() => {
    document.documentElement.dataset.theme = theme;
    localStorage.setItem("theme", theme);
  });
</script>

{#if session.me}
  <header class="border-b border-base-300 bg-base-200">
    <div class="mx-auto flex max-w-7xl items-center gap-x-3 px-4">
      <a href="/watch" class="flex items-center gap-2 py-2 font-semibold text-primary" aria-label="Keen Heron, to the watch page">
        <Heron /> <span class="hidden whitespace-nowrap lg:inline">Keen Heron</span>
      </a>
      <nav class="hidden self-stretch sm:flex" aria-label="Main">
        {#each open as place (place.href)}
          <a
            href={place.href}
            aria-current={here(place.href)}
            class="flex items-center border-b-2 px-1.5 pt-0.5 font-medium 2xl:px-2 {here(place.href)
              ? 'border-primary text-primary'
              : 'border-transparent hover:border-base-300'}"
          >
            {place.word}
          </a>
        {/each}
      </nav>
      <div class="ml-auto hidden sm:block"><Search /></div>
      <div class="ml-auto flex min-w-0 items-center gap-2 text-sm sm:ml-0">
        {#if (session.me?.estates.length ?? 0) > 1}
          <select
            class="select select-sm w-auto max-w-40 capitalize"
            aria-label="Estate"
            value={session.estate}
            onchange={(event) => session.choose(event.currentTarget.value)}
          >
            {#each session.me?.estates ?? [] as estate (estate.slug)}<option value={estate.slug}>{estate.name}</option>{/each}
          </select>
        {:else}
          <span class="capitalize">{session.estateName}</span>
        {/if}
        <span
          class="hidden whitespace-nowrap md:inline {live.connected ? 'text-success' : 'text-warning'}"
          title={live.connected ? "Live: new events appear at once" : "Connection lost; retrying"}
        >
          {live.connected ? "●" : "○"}<span class="hidden 2xl:inline"> {live.connected ? "live" : "reconnecting"}</span>
        </span>
        <button class="btn btn-ghost btn-sm" onclick={() => (theme = theme === "dusk" ? "marsh" : "dusk")}>
          {theme === "dusk" ? "Day" : "Dusk"}
        </button>
        <a class="btn btn-ghost btn-sm max-w-24 truncate sm:max-w-36" href="/account" aria-current={here("/account")} title="Your account">{session.me?.name}</a
        >
        <button class="btn btn-ghost btn-sm whitespace-nowrap" onclick={() => session.signOut()}>Sign out</button>
      </div>
    </div>
  </header>

  <Outage />
  {#if session.me?.given_password}
    <p class="border-b border-warning/40 bg-warning/10 px-4 py-2 text-center text-warning">
      You still use the password printed at first start. <a class="link" href="/account">Change it</a>
    </p>
  {/if}
  <div class="px-4 pt-3 sm:hidden"><Search /></div>
  <main class="mx-auto max-w-6xl px-4 pt-5 pb-6">{@render children()}</main>

  <footer class="mx-auto max-w-6xl px-4 pb-20 text-xs text-base-content/75 sm:pb-6">
    Times in {times.zone} · <a class="link" href="/account#times">change</a>
  </footer>

  <!-- On a ladder one thumb has to do. -->
  <nav class="fixed inset-x-0 bottom-0 z-10 flex border-t border-base-300 bg-base-200 sm:hidden" aria-label="Main, below">
    {#each thumb as place (place.href)}
      <a
        href={place.href}
        aria-current={here(place.href)}
        class="flex-1 px-0.5 py-3.5 text-center text-xs font-medium {here(place.href) ? 'text-primary underline underline-offset-4' : ''}"
      >
        {place.word}
      </a>
    {/each}
    {#if more.length > 0}
      <details class="dropdown dropdown-top dropdown-end flex-1" bind:open={moreOpen}>
        <summary
          class="cursor-pointer list-none px-0.5 py-3.5 text-center text-xs font-medium {more.some((place) => here(place.href))
            ? 'text-primary underline underline-offset-4'
            : ''}">More</summary
        >
        <ul class="menu dropdown-content z-20 mb-1 w-44 rounded-box border border-base-300 bg-base-200 shadow">
          {#each more as place (place.href)}
            <li><a href={place.href} aria-current={here(place.href)} onclick={() => (moreOpen = false)}>{place.word}</a></li>
          {/each}
        </ul>
      </details>
    {/if}
  </nav>
{:else}
  <Outage />
  <div class="p-8"><Loading /></div>
{/if}
