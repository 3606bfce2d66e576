<script lang="ts">
  // Says at once when what is heard does not become durable, whatever page is open.
  import { api, type Health } from "#lib/api.ts";

  const EVERY_MS = 5000;
  let health = $state<Health | null>(null);
  let unreached = $state(false);

  async function ask() {
    try {
      // With 503 it answers all the same, and says what is the matter.
      const { data, error } = await api.GET("/api/v1/health");
      health = data ?? (error as Health | undefined) ?? null;
      unreached = false;
    } catch {
      unreached = true;
    }
  }
  $effect(() => {
    void ask();
    const timer = setInterval(() => void ask(), EVERY_MS);
    return () => clearInterval(timer);
  });
  const bad = $derived(health?.parts?.filter((part) => part.state !== "ok") ?? []);
  const failing = $derived(health?.status === "failing");
</script>

{#if unreached}
  <p role="alert" class="border-b border-error/40 bg-error/10 px-4 py-2 text-center text-error">
    <strong>The service does not answer.</strong> The page shows the last known state.
  </p>
{:else if bad.length > 0}
  <div
    role="alert"
    class="border-b px-4 py-2 text-center {failing ? 'border-error/40 bg-error/10 text-error' : 'border-warning/40 bg-warning/10 text-warning'}"
  >
    {#each bad as part (part.part)}
      <p><strong class="capitalize">{part.part}:</strong> {part.what}.</p>
    {/each}
    {#if failing}<p class="text-sm">Nothing acknowledged is lost: it is stored when the database is back.</p>{/if}
  </div>
{/if}
