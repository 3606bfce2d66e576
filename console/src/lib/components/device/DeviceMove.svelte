<!-- Moves a device to another estate that one may register devices in. -->
<script lang="ts">
  import { api, call, every, type DeviceDetail, type MovedDevice } from "#lib/api.ts";
  import Card from "#lib/components/common/Card.svelte";
  import Confirm from "#lib/components/common/Confirm.svelte";
  import Field from "#lib/components/common/Field.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import { Action, resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  let { device }: { device: DeviceDetail } = $props();

  let wanted = $state("");
  let fleet = $state("");
  let moved = $state<MovedDevice | null>(null);
  const act = new Action();
  const others = $derived(session.others("devices"));
  const estate = $derived(wanted || (others[0]?.slug ?? ""));
  const fleets = resource(async () => {
    if (!estate) return [];
    return await every((query) => call(api.GET("/api/v1/estates/{estate}/fleets", { params: { path: { estate }, query } })));
  });
  const chosen = $derived(fleets.value?.some(({ slug }) => slug === fleet) ? fleet : (fleets.value?.[0]?.slug ?? ""));

  const move = async () => {
    const path = { estate: session.estate, eui: device.dev_eui };
    const body = { estate, fleet: chosen };
    moved = (await act.run(() => call(api.POST("/api/v1/estates/{estate}/devices/{eui}/move", { params: { path }, body })))) ?? null;
  };
</script>

{#if others.length > 0}
  <Card title="Move to another estate" data-move>
    {#if moved}
      <p role="status">
        {moved.name} is in {moved.estate} now, with its keys, session and counters.
        <button class="link" type="button" onclick={() => session.choose(moved?.estate ?? "", `/devices/${moved?.dev_eui}`)}>Show it there</button>
      </p>
      <p class="mt-2">What did not go along:</p>
      <ul class="ml-4 list-disc text-sm">
        {#each moved.left_behind as words (words)}<li>{words}</li>{/each}
      </ul>
    {:else}
      <p class="mb-2 text-sm text-base-content/80">
        It need not join again: keys, session and counters go along, and its model and radio profile if the other estate has some of the same short names. Its
        messages stay here, its readings start again, and its shares, tokens and groups end.
      </p>
      <div class="flex flex-wrap items-end gap-3">
        <Field label="Estate">
          <select class="select select-sm w-40" name="to_estate" bind:value={() => estate, (to) => (wanted = to)}>
            {#each others as { slug, name } (slug)}<option value={slug}>{name}</option>{/each}
          </select>
        </Field>
        <Field label="Fleet there">
          <select class="select select-sm w-40" name="to_fleet" bind:value={() => chosen, (to) => (fleet = to)}>
            {#each fleets.value ?? [] as { slug } (slug)}<option value={slug}>{slug}</option>{/each}
          </select>
        </Field>
        <Confirm label="Move" what="{device.name} will leave {session.estateName}." sure="Move {device.name}" disabled={!chosen} run={move} />
      </div>
      {#if fleets.value?.length === 0}<p class="mt-2 text-sm">{estate} has no fleet yet: add one there first.</p>{/if}
    {/if}
    {#if act.problem || fleets.problem}<div class="mt-3"><Notice text={act.problem || fleets.problem} /></div>{/if}
  </Card>
{/if}
