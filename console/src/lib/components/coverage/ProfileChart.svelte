<!-- The ground under a path: terrain and cover on the curved earth, the line of sight, and the first Fresnel zone. -->
<script lang="ts">
  import type { SiteLink } from "#lib/api.ts";

  let { link }: { link: SiteLink } = $props();

  const WIDTH = 640;
  const HEIGHT = 200;
  const LEFT = 44;
  const BOTTOM = 24;
  const TOP = 10;

  const drawing = $derived.by(() => {
    const { profile } = link;
    const ground = profile.ground_m.map((metres, n) => metres + (profile.bulge_m[n] ?? 0));
    const cover = ground.map((metres, n) => metres + (profile.cover_m[n] ?? 0));
    const line = profile.line_m;
    const zone = (sign: number) => line.map((metres, n) => metres + sign * (profile.fresnel_m[n] ?? 0));
    const [above, below] = [zone(1), zone(-1)];
    const most = Math.max(...cover, ...above);
    const least = Math.min(...ground, 0);
    const x = (n: number) => LEFT + (n / Math.max(1, line.length - 1)) * (WIDTH - LEFT - 8);
    const y = (metres: number) => TOP + (1 - (metres - least) / Math.max(1, most - least)) * (HEIGHT - TOP - BOTTOM);
    const points = (values: number[]) => values.map((metres, n) => `${x(n).toFixed(1)},${y(metres).toFixed(1)}`);
    const filled = (values: number[]) => [`${x(0)},${y(least)}`, ...points(values), `${x(values.length - 1)},${y(least)}`].join(" ");
    const step = [10, 20, 50, 100, 200, 500, 1000].find((step) => (most - least) / step <= 5) ?? 2000;
    const heights = [];
    for (let metres = Math.ceil(least / step) * step; metres <= most; metres += step) heights.push({ metres, y: y(metres) });
    return {
      ground: filled(ground),
      cover: filled(cover),
      line: points(line).join(" "),
      zone: [...points(above), ...points(below).reverse()].join(" "),
      heights,
    };
  });
</script>

<figure class="block">
  <svg viewBox="0 0 {WIDTH} {HEIGHT}" class="w-full max-w-3xl" role="img" aria-label="Profile of the path from {link.site}: {link.obstacle}">
    {#each drawing.heights as { metres, y } (metres)}
      <line x1={LEFT} x2={WIDTH - 8} y1={y} y2={y} class="grid-line" />
      <text x={LEFT - 6} y={y + 4} text-anchor="end">{metres} m</text>
    {/each}
    <polygon points={drawing.cover} class="cover" />
    <polygon points={drawing.ground} class="ground" />
    <polygon points={drawing.zone} class="zone" />
    <polyline points={drawing.line} class="sight" class:blocked={link.blocked} />
    <text x={LEFT} y={HEIGHT - 6}>{link.site}</text>
    <text x={WIDTH - 8} y={HEIGHT - 6} text-anchor="end">{(link.distance_m / 1000).toFixed(2)} km</text>
  </svg>
  <figcaption class="text-sm">
    {link.obstacle}
    <span class="text-base-content/75">Brown is ground, green is cover on it; shaded is the first Fresnel zone.</span>
  </figcaption>
</figure>

<style>
  text {
    font-size: 11px;
    fill: color-mix(in oklch, var(--color-base-content) 80%, transparent);
  }
  .grid-line {
    stroke: var(--color-base-300);
  }
  .ground {
    fill: color-mix(in oklch, #8a6a45 70%, var(--color-base-100));
  }
  .cover {
    fill: color-mix(in oklch, var(--color-success) 55%, var(--color-base-100));
  }
  .zone {
    fill: color-mix(in oklch, var(--color-info) 22%, transparent);
  }
  .sight {
    fill: none;
    stroke: var(--color-info);
    stroke-width: 1.5;
  }
  .sight.blocked {
    stroke: var(--color-error);
    stroke-dasharray: 5 3;
  }
</style>
