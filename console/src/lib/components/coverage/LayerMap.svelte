<!-- A layer on the map: which one is chosen, its opacity and legend, what is under the pointer, and a place that is clicked. -->
<script lang="ts">
  import type { ComponentProps } from "svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import PlaceMap from "#lib/components/common/PlaceMap.svelte";
  import Legend from "#lib/components/coverage/Legend.svelte";

  type Shown = { title: string; classes: { colour: string; words: string }[] };
  type Props = Pick<ComponentProps<typeof PlaceMap>, "points" | "over"> & {
    /** What a choice is called, and the name of its field. */
    label: string;
    name: string;
    choices: { id: string; words: string }[];
    value: string;
    choose: (id: string) => void;
    legend: Shown | undefined;
    /** What the map is of. */
    map: string;
    /** What a click does. */
    hint: string;
    problem: string;
    chosen: [number, number] | null;
  };
  let { points, over, label, name, choices, value, choose, legend, map, hint, problem, chosen = $bindable() }: Props = $props();

  let opacity = $state(70);
  let colour = $state<string | null>(null);
  const under = $derived(colour ? legend?.classes.find((one) => one.colour === colour)?.words : undefined);
</script>

<div class="mb-2 flex flex-wrap items-center gap-x-5 gap-y-2">
  <label class="flex items-center gap-2 text-sm">
    {label}
    <select class="select select-sm w-64" {name} {value} onchange={(event) => choose(event.currentTarget.value)}>
      {#each choices as { id, words } (id)}<option value={id}>{words}</option>{/each}
    </select>
  </label>
  <label class="flex items-center gap-2 text-sm">
    Opacity
    <input class="range range-xs w-32" type="range" min="0" max="100" aria-label="Opacity in percent" bind:value={opacity} />
  </label>
  <p class="text-sm tabular-nums" aria-live="off" data-under>{under ? `Under the pointer: ${under}` : hint}</p>
</div>
<Notice text={problem} />
<div class="flex flex-col gap-4 lg:flex-row">
  <div class="min-w-0 flex-1">
    <PlaceMap
      {points}
      {over}
      {chosen}
      opacity={opacity / 100}
      label={map}
      height="30rem"
      pick={(latitude, longitude) => (chosen = [latitude, longitude])}
      pointed={(found) => (colour = found)}
    />
  </div>
  {#if legend}<Legend title={legend.title} classes={legend.classes} name={value} />{/if}
</div>
