<script lang="ts">
  import { page } from "$app/state";
</script>

<main class="mx-auto max-w-lg p-8">
  <h1>There is no such page</h1>
  <p class="my-3 text-base-content/80">{page.url.pathname}</p>
  <a class="btn btn-primary" href="/gateways">To the gateways</a>
</main>
