<!-- Signal strength against signal-to-noise ratio, a point an uplink. -->
<script lang="ts">
  import type { Reception } from "#lib/api.ts";

  let { points }: { points: Reception["points"] } = $props();

  let place: HTMLDivElement;
  let chart = $state<{ setOption: (option: object) => void; resize: () => void; dispose: () => void } | null>(null);
  const symbols = ["circle", "rect", "triangle", "diamond", "pin", "arrow"];

  $effect(() => {
    let gone = false;
    let watcher: ResizeObserver | undefined;
    void Promise.all([import("echarts/core"), import("echarts/charts"), import("echarts/components"), import("echarts/renderers")]).then(
      ([core, charts, components, renderers]) => {
        if (gone) return;
        core.use([charts.ScatterChart, components.GridComponent, components.LegendComponent, components.TooltipComponent, renderers.CanvasRenderer]);
        const made = core.init(place);
        watcher = new ResizeObserver(() => made.resize());
        watcher.observe(place);
        chart = made;
      },
    );
    return () => {
      gone = true;
      watcher?.disconnect();
      chart?.dispose();
      chart = null;
    };
  });

  $effect(() => {
    if (!chart) return;
    const colour = (name: string) => getComputedStyle(place).getPropertyValue(`--color-${name}`);
    const [ink, line] = [colour("base-content"), colour("base-300")];
    const factors = [...new Set(points.map((point) => point.spreading_factor ?? 0))].sort((a, b) => a - b);
    const tones = ["success", "secondary", "warning", "error", "neutral", "primary"].map(colour);
    // The same for every gateway, so that they can be compared.
    const axis = (name: string, middle: number, min: number, max: number) => ({
      name,
      nameLocation: "middle",
      nameGap: middle,
      min,
      max,
      nameTextStyle: { color: ink },
      axisLabel: { color: ink },
      axisLine: { lineStyle: { color: line } },
      splitLine: { lineStyle: { color: line } },
    });
    chart.setOption({
      animation: false,
      textStyle: { fontFamily: getComputedStyle(place).fontFamily },
      grid: { left: 52, right: 12, top: 34, bottom: 44 },
      legend: { top: 0, textStyle: { color: ink } },
      // Drawn, not written as HTML: the page allows no styles from elsewhere.
      tooltip: { renderMode: "richText", formatter: ({ value }: { value: [number, number] }) => `${value[0]} dBm, ${value[1]} dB` },
      xAxis: axis("RSSI, dBm", 26, -140, -30),
      yAxis: axis("SNR, dB", 34, -25, 15),
      series: factors.map((factor, n) => ({
        type: "scatter",
        name: factor ? `SF${factor}` : "other",
        symbol: symbols[n % symbols.length],
        symbolSize: 7,
        itemStyle: { color: tones[n % tones.length], opacity: 0.75 },
        data: points.filter((point) => (point.spreading_factor ?? 0) === factor).map((point) => [point.rssi_dbm, point.snr_db]),
      })),
    });
  });
</script>

<div bind:this={place} class="h-64 w-full" role="img" aria-label="Signal strength against signal-to-noise ratio of {points.length} uplinks"></div>
