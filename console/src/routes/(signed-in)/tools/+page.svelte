<script lang="ts">
  import { goto } from "$app/navigation";

  $effect(() => {
    void goto("/tools/frame", { replace: true });
  });
</script>
