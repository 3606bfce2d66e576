<script lang="ts">
  import { page } from "$app/state";
  import Notice from "#lib/components/common/Notice.svelte";
</script>

<svelte:head><title>{page.status} · Keen Heron</title></svelte:head>

<h1 class="mb-3">{page.status === 404 ? "There is no such page" : "This page cannot be shown"}</h1>
<Notice text={page.error?.message ?? ""} />
<p><a class="link" href="/watch">To the watch page</a></p>
