<!-- Where devices are, with the gateways among them. -->
<script lang="ts">
  import { api, call, every } from "#lib/api.ts";
  import { resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import PlaceMap from "#lib/components/common/PlaceMap.svelte";

  let { filters }: { filters: Record<string, string> } = $props();

  const path = $derived({ estate: session.estate });
  const devices = resource(() => every((query) => call(api.GET("/api/v1/estates/{estate}/devices", { params: { path, query: { ...query, ...filters } } }))));
  const gateways = resource(async () =>
    session.whole ? await every((query) => call(api.GET("/api/v1/estates/{estate}/gateways", { params: { path, query } }))) : [],
  );

  const unplaced = $derived(devices.value?.filter((device) => !device.place) ?? []);
  const points = $derived([
    ...(gateways.value ?? []).flatMap(({ eui, name, state, latitude_deg, longitude_deg }) =>
      latitude_deg == null || longitude_deg == null ? [] : [{ name, kind: "gateway" as const, state, latitude_deg, longitude_deg, href: `/gateways/${eui}` }],
    ),
    ...(devices.value ?? []).flatMap(({ dev_eui, name, state, place }) =>
      place ? [{ name, kind: "device" as const, state, ...place, href: `/devices/${dev_eui}` }] : [],
    ),
  ]);
</script>

<Notice text={devices.problem || gateways.problem} />
{#if devices.value}
  <PlaceMap {points} label="Map of devices and gateways" height="32rem" />
  <p class="mt-2 text-sm text-base-content/75">
    Circles are gateways, squares are devices.
    {#if unplaced.length > 0}
      No place is known of {unplaced.length === 1 ? "one device" : `${unplaced.length} devices`}:
      {#each unplaced.slice(0, 8) as device, n (device.dev_eui)}{n > 0 ? ", " : ""}<a class="link" href="/devices/{device.dev_eui}?tab=setup">{device.name}</a
        >{/each}{unplaced.length > 8 ? " …" : "."}
    {/if}
  </p>
{:else}
  <Loading />
{/if}
