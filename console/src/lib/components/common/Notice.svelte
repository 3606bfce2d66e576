<!-- Something went wrong, in words. -->
<script lang="ts">
  let { text }: { text: string } = $props();
</script>

{#if text}
  <p role="alert" class="rounded-field border border-error/40 bg-error/10 px-3 py-2 text-error">{text}</p>
{/if}
