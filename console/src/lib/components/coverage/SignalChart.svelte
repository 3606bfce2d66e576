<!-- The signal of a device at a gateway over time, with its steps. -->
<script lang="ts">
  import { api, call } from "#lib/api.ts";
  import Loading from "#lib/components/common/Loading.svelte";
  import Notice from "#lib/components/common/Notice.svelte";
  import { day, moment } from "#lib/format.ts";
  import { resource } from "#lib/resource.svelte.ts";
  import { session } from "#lib/session.svelte.ts";

  let { device, gateway }: { device: string; gateway: string } = $props();
  const held = resource(() =>
    call(api.GET("/api/v1/estates/{estate}/survey/signal", { params: { path: { estate: session.estate }, query: { device, gateway } } })),
  );

  /** In units of the drawing. */
  const [WIDTH, HEIGHT, LEFT, BOTTOM] = [760, 180, 52, 22];
  const drawn = $derived.by(() => {
    const points = held.value?.points ?? [];
    const [first, last] = [points[0], points.at(-1)];
    if (!first || !last) return null;
    const levels = points.map((point) => point.level_db);
    const [low, high] = [Math.floor(Math.min(...levels) / 5) * 5 - 1, Math.ceil(Math.max(...levels) / 5) * 5 + 1];
    const span = Math.max(1, last.at_ms - first.at_ms);
    const x = (at: number) => LEFT + ((at - first.at_ms) / span) * (WIDTH - LEFT - 8);
    const y = (level: number) => 8 + ((high - level) / (high - low)) * (HEIGHT - 8 - BOTTOM);
    const step = high - low > 30 ? 10 : 5;
    const ticks = Array.from({ length: Math.floor((high - low) / step) + 1 }, (_, n) => Math.ceil(low / step) * step + n * step).filter((tick) => tick <= high);
    const days = Array.from({ length: 5 }, (_, n) => first.at_ms + (span * n) / 4);
    const steps = held.value?.steps ?? [];
    const bounds = [first.at_ms, ...steps.map((one) => Date.parse(one.at)), last.at_ms];
    const flats = steps.length === 0 ? [] : [steps[0]?.before_db ?? 0, ...steps.map((one) => one.after_db)];
    const line = flats.map((level, n) => `${n === 0 ? "M" : "L"}${x(bounds[n] ?? 0)} ${y(level)}L${x(bounds[n + 1] ?? 0)} ${y(level)}`).join("");
    return { points, x, y, ticks, days, steps, line };
  });
  const change = (step: { before_db: number; after_db: number }) => {
    const db = step.after_db - step.before_db;
    return `${Math.abs(db).toFixed(1)} dB ${db < 0 ? "weaker" : "stronger"}`;
  };
</script>

<Notice text={held.problem} />
{#if held.value && !drawn}
  <p class="text-sm">{device} was not heard by {gateway}.</p>
{:else if drawn}
  <figure data-signal-of={gateway}>
    <figcaption class="mb-1 text-sm">
      Signal of {device} at {gateway}, less what was transmitted{drawn.steps.length === 0 ? ": no step that stayed." : ":"}
      {#each drawn.steps as step (step.at)}<span class="font-semibold" data-step> {change(step)} since {moment(step.at)}.</span>{/each}
    </figcaption>
    <svg viewBox="0 0 {WIDTH} {HEIGHT}" class="w-full" role="img" aria-label="Signal of {device} at {gateway} over time">
      {#each drawn.ticks as tick (tick)}
        <line x1={LEFT} x2={WIDTH - 8} y1={drawn.y(tick)} y2={drawn.y(tick)} class="stroke-base-300" />
        <text x={LEFT - 6} y={drawn.y(tick) + 4} text-anchor="end" class="fill-base-content text-[11px]">{tick} dB</text>
      {/each}
      {#each drawn.days as at, n (at)}
        <text x={drawn.x(at)} y={HEIGHT - 5} text-anchor={n === 0 ? "start" : n === 4 ? "end" : "middle"} class="fill-base-content text-[11px]">{day(at)}</text>
      {/each}
      {#each drawn.points as point (point.at_ms)}
        <circle cx={drawn.x(point.at_ms)} cy={drawn.y(point.level_db)} r="1.4" class="fill-primary" opacity="0.6" />
      {/each}
      {#if drawn.line}<path d={drawn.line} fill="none" class="stroke-error" stroke-width="2.5" />{/if}
    </svg>
  </figure>
{:else if !held.problem}
  <Loading />
{/if}
