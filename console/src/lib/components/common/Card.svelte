<!-- A part of a page with a border around it. -->
<script lang="ts">
  import type { Snippet } from "svelte";
  import type { HTMLAttributes } from "svelte/elements";

  type Props = HTMLAttributes<HTMLElement> & { title?: string; tag?: "section" | "article" | "div" | "form"; children: Snippet };
  let { title, tag = "section", class: more = "", children, ...rest }: Props = $props();
</script>

<svelte:element this={tag} class="card block border border-base-300 p-4 {more}" {...rest}>
  {#if title}<h2 class="mb-2">{title}</h2>{/if}
  {@render children()}
</svelte:element>
