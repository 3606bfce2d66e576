<!-- A table that scrolls by itself where the page is narrow. -->
<script lang="ts">
  import type { Snippet } from "svelte";
  import type { HTMLTableAttributes } from "svelte/elements";

  type Props = HTMLTableAttributes & { head: Snippet; children: Snippet };
  let { head, class: more = "table-sm", children, ...rest }: Props = $props();
</script>

<div class="overflow-x-auto">
  <table class="table {more}" {...rest}>
    <thead><tr>{@render head()}</tr></thead>
    <tbody>{@render children()}</tbody>
  </table>
</div>
