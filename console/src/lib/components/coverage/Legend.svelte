<!-- The legend of a layer on a map. -->
<script lang="ts">
  let { title, classes, name }: { title: string; classes: { colour: string; words: string }[]; name: string } = $props();
</script>

<div class="lg:w-52" data-legend={name}>
  <h3 class="mb-2 font-semibold">{title[0]?.toUpperCase()}{title.slice(1)}</h3>
  <ul class="flex flex-wrap gap-x-4 gap-y-1 lg:flex-col">
    {#each classes as one (one.words)}
      <li class="flex items-center gap-2 text-sm">
        <span class="inline-block h-4 w-6 rounded-sm border border-base-300" style:background={one.colour} aria-hidden="true"></span>{one.words}
      </li>
    {/each}
  </ul>
</div>
