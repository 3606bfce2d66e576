<!-- A small line of values over time, with gaps; the lowest and highest are written beside it. -->
<script lang="ts">
  type Point = { at_ms: number; value: number | null };
  let { points, from, until, label, step = false }: { points: Point[]; from: number; until: number; label: string; step?: boolean } = $props();

  const WIDTH = 200;
  const HEIGHT = 36;
  const values = $derived(points.flatMap((point) => (point.value === null ? [] : [point.value])));
  const least = $derived(Math.min(...values));
  const most = $derived(Math.max(...values));
  const x = (at: number) => ((at - from) / Math.max(1, until - from)) * WIDTH;
  const y = (value: number) => (most === least ? HEIGHT / 2 : 2 + (1 - (value - least) / (most - least)) * (HEIGHT - 4));

  /** Moves at the first point and after each gap, lines between the others. */
  const path = $derived.by(() => {
    let pen = false;
    return points
      .map((point) => {
        if (point.value === null) {
          pen = false;
          return "";
        }
        const at = `${x(point.at_ms).toFixed(1)} ${y(point.value).toFixed(1)}`;
        const way = pen ? (step ? `H${x(point.at_ms).toFixed(1)}V${y(point.value).toFixed(1)}` : `L${at}`) : `M${at}h0.01`;
        pen = true;
        return way;
      })
      .join("");
  });
</script>

{#if values.length > 1}
  <svg viewBox="0 0 {WIDTH} {HEIGHT}" class="h-9 w-full text-secondary" preserveAspectRatio="none" role="img" aria-label={label}>
    <path d={path} fill="none" stroke="currentColor" stroke-width="1.5" stroke-linecap="round" vector-effect="non-scaling-stroke" />
  </svg>
{/if}
