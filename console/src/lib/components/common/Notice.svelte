<!-- Something went wrong, in words. -->
<script lang="ts">
  let { text }: { text: string } = $props();
</script>

{#if text}
  <p role="alert" class="alert alert-soft alert-error">{text}</p>
{/if}
