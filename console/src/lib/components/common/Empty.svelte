<!-- Nothing is there yet: what to do first. -->
<script lang="ts">
  import type { Snippet } from "svelte";
  import Card from "#lib/components/common/Card.svelte";

  let { title, children }: { title: string; children: Snippet } = $props();
</script>

<Card {title} class="p-6">{@render children()}</Card>
