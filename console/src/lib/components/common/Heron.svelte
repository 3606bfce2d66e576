<script lang="ts">
  let { size = 28 }: { size?: number } = $props();
</script>

<svg
  width={size}
  height={size}
  viewBox="0 0 32 32"
  fill="none"
  stroke="currentColor"
  stroke-width="2.2"
  stroke-linecap="round"
  stroke-linejoin="round"
  aria-hidden="true"
>
  <path d="M4 9l8-1.5c3-.6 5 1.5 4 4.2-1 2.6-3.5 3.6-3.2 6.3.4 3.4 5 4 8.2 2.5 2.6-1.2 5-3.5 7-7" />
  <path d="M17 21.500V29M21 20.500V29M13 29h11" />
</svg>
