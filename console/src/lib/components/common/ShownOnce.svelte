<!-- A secret that is shown now and never again. -->
<script lang="ts">
  let { what, text, hint, close }: { what: string; text: string; hint: string; close: () => void } = $props();
  let copied = $state(false);

  async function copy() {
    await navigator.clipboard.writeText(text);
    copied = true;
  }
</script>

<div class="rounded-box border border-success/50 bg-success/10 p-4" role="status" data-shown-once>
  <p class="font-medium">{what}</p>
  <p class="my-2 font-mono text-[0.9em] break-all select-all">{text}</p>
  <p class="text-sm text-base-content/80">{hint} It is shown only now.</p>
  <div class="mt-2 flex gap-2">
    <button class="btn btn-sm" type="button" onclick={copy}>{copied ? "Copied" : "Copy"}</button>
    <button class="btn btn-ghost btn-sm" type="button" onclick={close}>Done</button>
  </div>
</div>
