<!-- What is to be known of a model's readings: units, scales, ranges, words. -->
<script lang="ts">
  import type { Doubt, ReadingRule } from "#lib/api.ts";

  let { rules = $bindable(), names, doubts = [] }: { rules: Record<string, ReadingRule>; names: string[]; doubts?: Doubt[] } = $props();

  const KINDS = { measured: "measured value", total: "running total", state: "state", text: "text", position: "position" };
  let open = $state<string | null>(null);
  const all = $derived([...new Set([...names, ...Object.keys(rules)])].sort());

  function set(name: string, change: Partial<ReadingRule>) {
    const rule = { ...rules[name], ...change };
    const kept = Object.fromEntries(
      Object.entries(rule).filter(
        ([, value]) => value !== undefined && value !== null && value !== "" && !(typeof value === "object" && Object.keys(value).length === 0),
      ),
    );
    const next = { ...rules, [name]: kept as ReadingRule };
    if (Object.keys(kept).length === 0) delete next[name];
    rules = next;
  }
  const number = (text: string) => (text.trim() === "" || Number.isNaN(Number(text)) ? undefined : Number(text));
  const words = (text: string) =>
    Object.fromEntries(
      text
        .split(",")
        .map((pair) => pair.split("=").map((part) => part.trim()))
        .filter((pair) => pair.length === 2 && pair[0] && pair[1]),
    );
  const told = (rule: ReadingRule | undefined) =>
    [
      rule?.unit,
      rule?.kind && KINDS[rule.kind],
      rule?.scale != null && `× ${rule.scale}`,
      rule?.offset != null && `+ ${rule.offset}`,
      (rule?.min != null || rule?.max != null) && `${rule?.min ?? "…"} to ${rule?.max ?? "…"}`,
      rule?.decimals != null && `${rule.decimals} decimals`,
      rule?.words &&
        Object.entries(rule.words)
          .map(([value, word]) => `${value} is ${word}`)
          .join(", "),
    ]
      .filter(Boolean)
      .join(" · ");
</script>

{#if all.length === 0}
  <p class="text-base-content/75">Readings appear here after the first decoded uplink.</p>
{/if}
<ul>
  {#each all as name (name)}
    {@const rule = rules[name]}
    {@const doubt = doubts.find((d) => d.reading === name)}
    <li class="border-b border-base-300 py-1 last:border-b-0" data-rule={name}>
      <button
        class="flex w-full flex-wrap items-baseline gap-x-3 text-left"
        type="button"
        aria-expanded={open === name}
        onclick={() => (open = open === name ? null : name)}
      >
        <span class="font-semibold">{name}</span>
        <span class="text-sm text-base-content/75">{told(rule) || "nothing said: by name and value"}</span>
      </button>
      {#if doubt}
        <p class="mt-1 flex flex-wrap items-baseline gap-x-3 border-l-4 border-warning/60 pl-3" data-doubt>
          <span><span class="font-medium text-warning">!</span> {doubt.seen}: {doubt.question}</span>
          {#if doubt.factor != null}
            <button class="btn btn-xs" type="button" onclick={() => set(name, { scale: Number(((rule?.scale ?? 1) * (doubt.factor ?? 1)).toPrecision(12)) })}
              >Multiply by {doubt.factor}</button
            >
          {/if}
        </p>
      {/if}
      {#if open === name}
        <div class="grid grid-cols-2 gap-2 py-2 sm:grid-cols-4">
          {#snippet field(label: string, value: string | number | null | undefined, put: (text: string) => void)}
            <label class="text-sm"
              ><span class="block text-base-content/75">{label}</span>
              <input class="input input-sm w-full" value={value ?? ""} onchange={(event) => put(event.currentTarget.value)} />
            </label>
          {/snippet}
          {@render field("Unit", rule?.unit, (text) => set(name, { unit: text.trim() || undefined }))}
          <label class="text-sm"
            ><span class="block text-base-content/75">Kind</span>
            <select
              class="select select-sm w-full"
              value={rule?.kind ?? ""}
              onchange={(event) => set(name, { kind: (event.currentTarget.value || undefined) as ReadingRule["kind"] })}
            >
              <option value="">automatic</option>
              {#each Object.entries(KINDS) as [kind, word] (kind)}<option value={kind}>{word}</option>{/each}
            </select>
          </label>
          {@render field("Multiplied by", rule?.scale, (text) => set(name, { scale: number(text) }))}
          {@render field("Plus", rule?.offset, (text) => set(name, { offset: number(text) }))}
          {@render field("At least", rule?.min, (text) => set(name, { min: number(text) }))}
          {@render field("At most", rule?.max, (text) => set(name, { max: number(text) }))}
          {@render field("Decimals", rule?.decimals, (text) => set(name, { decimals: number(text) }))}
          {#if rule?.kind === "total"}
            {@render field("Begins again at", rule?.wraps_at, (text) => set(name, { wraps_at: number(text) }))}
          {/if}
          <label class="col-span-2 text-sm sm:col-span-4"
            ><span class="block text-base-content/75">Words for values (true=open, false=closed, 2=half)</span>
            <input
              class="input input-sm w-full"
              value={Object.entries(rule?.words ?? {})
                .map(([value, word]) => `${value}=${word}`)
                .join(", ")}
              onchange={(event) => set(name, { words: words(event.currentTarget.value) })}
            />
          </label>
        </div>
      {/if}
    </li>
  {/each}
</ul>
