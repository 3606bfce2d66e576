<script lang="ts">
  import { goto } from "$app/navigation";

  $effect(() => {
    void goto("/watch", { replace: true });
  });
</script>
