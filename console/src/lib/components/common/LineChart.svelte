<!-- Readings over time: a panel for each unit on one time axis, lines with gaps, minimum and maximum around means, zoom and pan. -->
<script lang="ts">
  import type { Chart, ChartLine } from "#lib/api.ts";
  import { day, minute, moment } from "#lib/format.ts";
  import { times } from "#lib/times.svelte.ts";

  let { chart, look }: { chart: Chart; look: (from: number, until: number) => void } = $props();

  type Zoomed = { batch?: { start?: number; end?: number }[]; start?: number; end?: number };
  type Drawn = {
    setOption: (option: object, all?: boolean) => void;
    resize: () => void;
    dispose: () => void;
    on: (event: string, handler: (event: Zoomed) => void) => void;
    getOption: () => unknown;
  };
  let place: HTMLDivElement;
  let drawn = $state.raw<Drawn | null>(null);
  let later: ReturnType<typeof setTimeout> | undefined;

  $effect(() => {
    let gone = false;
    let watcher: ResizeObserver | undefined;
    void Promise.all([import("echarts/core"), import("echarts/charts"), import("echarts/components"), import("echarts/renderers")]).then(
      ([core, charts, components, renderers]) => {
        if (gone) return;
        core.use([
          charts.LineChart,
          components.GridComponent,
          components.LegendComponent,
          components.TooltipComponent,
          components.DataZoomComponent,
          components.AxisPointerComponent,
          renderers.CanvasRenderer,
        ]);
        const made = core.init(place);
        watcher = new ResizeObserver(() => made.resize());
        watcher.observe(place);
        made.on("datazoom", () => {
          const zoom = (made.getOption() as { dataZoom: { startValue: number; endValue: number }[] }).dataZoom[0];
          clearTimeout(later);
          if (zoom) later = setTimeout(() => look(zoom.startValue, zoom.endValue), 300);
        });
        drawn = made as unknown as Drawn;
      },
    );
    return () => {
      gone = true;
      clearTimeout(later);
      watcher?.disconnect();
      drawn?.dispose();
      drawn = null;
    };
  });

  const name = (line: ChartLine) => `${line.device.name} · ${line.reading}`;
  const units = $derived([...new Set(chart.lines.map((line) => line.unit ?? ""))]);
  /** Heights in pixels: the legend, a panel, and what lies between two. */
  const LEGEND = 56;
  const PANEL = 190;
  const BETWEEN = 30;
  const height = $derived(LEGEND + Math.max(1, units.length) * (PANEL + BETWEEN) + 6);

  /** A tick of the time axis: the date at midnight, else the time of day. */
  function tick(at: number): string {
    const text = minute(at);
    return text === "00:00" ? day(at) : text;
  }

  $effect(() => {
    if (!drawn) return;
    const style = getComputedStyle(place);
    const colour = (of: string) => style.getPropertyValue(`--color-${of}`);
    const [ink, grid] = [colour("base-content"), colour("base-300")];
    const tones = ["primary", "secondary", "warning", "error", "success", "neutral"].map(colour);
    const kinds = ["solid", "dashed", "dotted"];
    const from = Date.parse(chart.from);
    const until = Date.parse(chart.until);
    const series = chart.lines.flatMap((line, n) => {
      const tone = tones[n % tones.length];
      // Texts stand on a line of their own, each at its place in the order of first coming.
      const words = [...new Set(line.points.flatMap((point) => (point.word ? [point.word] : [])))];
      const of = (point: ChartLine["points"][number]) => (point.word ? words.indexOf(point.word) : (point.value ?? null));
      const panel = units.indexOf(line.unit ?? "");
      const one = {
        type: "line",
        name: name(line),
        xAxisIndex: panel,
        yAxisIndex: panel,
        data: line.points.map((point) => [point.at_ms + ((line.step_s ?? 0) * 1000) / 2, of(point)]),
        connectNulls: false,
        step: line.kind === "state" || words.length > 0 ? "end" : false,
        showSymbol: line.step_s == null && line.points.length < 150,
        symbolSize: 4,
        lineStyle: { width: 1.75, type: kinds[Math.floor(n / tones.length) % kinds.length], color: tone },
        itemStyle: { color: tone },
        // What is pointed at would be drawn in a lighter tone, which is not known how to be made of these.
        emphasis: { disabled: true },
      };
      if (line.step_s == null || line.kind === "state") return [one];
      const band = (data: (number | null)[][], fill: boolean) => ({
        type: "line",
        name: name(line),
        xAxisIndex: panel,
        yAxisIndex: panel,
        data,
        stack: `band ${n}`,
        stackStrategy: "all",
        symbol: "none",
        silent: true,
        itemStyle: { color: tone },
        lineStyle: { opacity: 0 },
        areaStyle: fill ? { color: tone, opacity: 0.18 } : undefined,
        tooltip: { show: false },
        emphasis: { disabled: true },
      });
      const at = (point: ChartLine["points"][number]) => point.at_ms + ((line.step_s ?? 0) * 1000) / 2;
      return [
        band(
          line.points.map((point) => [at(point), point.least ?? null]),
          false,
        ),
        band(
          line.points.map((point) => [at(point), point.most != null && point.least != null ? point.most - point.least : null]),
          true,
        ),
        one,
      ];
    });
    const panels = units.length > 0 ? units : [""];
    const top = (n: number) => LEGEND + n * (PANEL + BETWEEN);
    const bottom = panels.length - 1;
    const yAxis = panels.map((unit, n) => ({
      type: "value",
      gridIndex: n,
      name: unit,
      scale: true,
      nameTextStyle: { color: ink },
      axisLabel: { color: ink },
      axisLine: { show: false },
      splitLine: { lineStyle: { color: grid } },
    }));
    const xAxis = panels.map((_, n) => ({
      type: "time",
      gridIndex: n,
      min: from - (until - from),
      max: Math.max(until, Math.min(until + (until - from), Date.now())),
      // There is space on both sides to move into; what is there is loaded when it is moved to.
      axisLabel: { show: n === bottom, color: ink, hideOverlap: true, formatter: tick },
      axisTick: { show: n === bottom },
      axisLine: { lineStyle: { color: grid } },
      splitLine: { show: false },
    }));
    drawn.setOption(
      {
        animation: false,
        textStyle: { fontFamily: style.fontFamily },
        grid: panels.map((_, n) => ({ left: 56, right: 16, top: top(n), height: PANEL })),
        axisPointer: { link: [{ xAxisIndex: "all" }], label: { show: false } },
        useUTC: times.utc,
        legend: { top: 0, type: "scroll", icon: "roundRect", itemHeight: 4, textStyle: { color: ink }, data: chart.lines.map(name) },
        tooltip: {
          trigger: "axis",
          renderMode: "richText",
          confine: true,
          backgroundColor: colour("base-200"),
          borderColor: grid,
          textStyle: { color: ink },
          formatter: (points: { seriesName: string; value: [number, number | null] }[]) => tip(points),
        },
        xAxis,
        yAxis,
        dataZoom: [
          {
            type: "inside",
            xAxisIndex: panels.map((_, n) => n),
            startValue: from,
            endValue: until,
            filterMode: "none",
            zoomOnMouseWheel: true,
            moveOnMouseMove: true,
          },
        ],
        series,
      },
      true,
    );
  });

  function tip(points: { seriesName: string; value: [number, number | null] }[]): string {
    const at = points[0]?.value[0];
    if (at === undefined) return "";
    const lines = chart.lines.map((line) => {
      const half = ((line.step_s ?? 0) * 1000) / 2;
      const point = line.points.findLast((one) => one.at_ms + half <= at && (one.value != null || one.word != null));
      if (!point || !points.some((one) => one.seriesName === name(line))) return null;
      const shown = point.word ?? String(Math.round((point.value ?? 0) * 1000) / 1000);
      const word = line.words?.[String(point.value)] ?? shown;
      const range =
        point.least != null && point.most != null && point.least !== point.most
          ? ` (${Math.round(point.least * 1000) / 1000} to ${Math.round(point.most * 1000) / 1000})`
          : "";
      return `${name(line)}: ${word} ${line.unit ?? ""}${range}`;
    });
    return [moment(at), ...lines.filter((line) => line !== null)].join("\n");
  }
</script>

<div
  bind:this={place}
  class="w-full"
  style:height="{height}px"
  role="img"
  aria-label="Chart of {chart.lines.map(name).join(', ')}"
  data-chart={drawn ? "ready" : "loading"}
></div>
