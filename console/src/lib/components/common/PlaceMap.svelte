<!-- Where gateways and devices are: circles and squares, on the ground that the service draws from files, or on map tiles that the operator has named. Without either nothing is fetched, and a grid and a scale tell distances. -->
<script lang="ts">
  import "leaflet/dist/leaflet.css";
  import type { Map as LeafletMap, LayerGroup, TileLayer } from "leaflet";
  import { layGround } from "#lib/ground.ts";
  import { labels } from "#lib/map-labels.ts";
  import type { Together } from "#lib/together.svelte.ts";

  type Point = { name: string; kind?: "gateway" | "device" | "planned"; state: string; latitude_deg: number; longitude_deg: number; href?: string };
  /** Tiles that lie over the ground: their address, the box around them, and their finest level. */
  type Over = { url: string; extent: { south_deg: number; west_deg: number; north_deg: number; east_deg: number }; maxLevel: number };
  /** A box that is drawn with its name. */
  type Box = { name: string; extent: Over["extent"] };
  type Props = {
    points: Point[];
    /** What is outlined; the map shows all of it if there are no points. */
    boxes?: Box[];
    label?: string;
    pick?: (latitude: number, longitude: number) => void;
    height?: string;
    over?: Over | null;
    opacity?: number;
    /** Told the colour of the tiles under the pointer, none where they are clear. */
    pointed?: (colour: string | null) => void;
    /** A place that is marked. */
    chosen?: [number, number] | null;
    /** Other maps with the same view and pointer. */
    together?: Together | null;
  };
  let {
    points,
    boxes = [],
    label = "Map of gateways",
    pick,
    height = "18rem",
    over = null,
    opacity = 0.7,
    pointed,
    chosen = null,
    together = null,
  }: Props = $props();

  const FINE = ["active", "listening", "planned"];
  /** From the middle of a mark to its label. */
  const OFFSETS = { right: [6, 0], left: [-6, 0], top: [0, -6], bottom: [0, 6] } satisfies Record<string, [number, number]>;

  let place: HTMLDivElement;
  let leaflet: typeof import("leaflet") | null = null;
  let map = $state<LeafletMap | null>(null);
  let drawn: LayerGroup | null = null;
  let overlay = $state.raw<TileLayer | null>(null);
  let shown = "";
  /** This map among those that are looked at together. */
  const me = Symbol();
  let following = false;
  let onGround = $state<Awaited<ReturnType<typeof layGround>>>(null);

  $effect(() => {
    const gone = new AbortController();
    void import("leaflet").then(async (loaded) => {
      if (gone.signal.aborted) return;
      leaflet = loaded.default ?? loaded;
      const made = leaflet.map(place, { attributionControl: false, zoomControl: false, zoomSnap: 0.25 }).setView([54.7, 3.9], 11);
      leaflet.control.zoom({ position: "topright" }).addTo(made);
      leaflet.control.scale({ imperial: false, position: "bottomright" }).addTo(made);
      drawn = leaflet.layerGroup().addTo(made);
      made.on("click", (event) => pick?.(round(event.latlng.lat), round(event.latlng.lng)));
      made.on("moveend", draw);
      made.on("mousemove", (event) => pointed?.(colourAt(event.originalEvent.clientX, event.originalEvent.clientY)));
      made.on("mouseout", () => {
        pointed?.(null);
        if (together) together.pointer = null;
      });
      made.on("mousemove", (event) => {
        if (together) together.pointer = { latitude: event.latlng.lat, longitude: event.latlng.lng, by: me };
      });
      made.on("move", () => {
        if (!together || following) return;
        const { lat, lng } = made.getCenter();
        together.view = { latitude: lat, longitude: lng, zoom: made.getZoom(), by: me };
      });
      map = made;
      onGround = await layGround(leaflet, made, gone.signal);
      if (onGround) draw();
    });
    return () => {
      gone.abort();
      map?.remove();
      map = null;
    };
  });

  $effect(() => {
    const all = points.map((point) => [point.latitude_deg, point.longitude_deg] as [number, number]);
    if (!map || !leaflet) return;
    draw();
    // It follows the gateways, not each word of theirs.
    const places = JSON.stringify(all);
    if (all.length === 0 || places === shown) return;
    shown = places;
    map.fitBounds(leaflet.latLngBounds(all).pad(0.2), { maxZoom: 13 });
  });

  // The address changes while a forecast is computed: new tiles take the place of the old ones without a gap.
  $effect(() => {
    const wanted = over;
    if (!map || !leaflet || !wanted) return;
    const { south_deg, west_deg, north_deg, east_deg } = wanted.extent;
    const bounds = leaflet.latLngBounds([south_deg, west_deg], [north_deg, east_deg]);
    const layer = leaflet.tileLayer(wanted.url, { bounds, maxNativeZoom: wanted.maxLevel, maxZoom: wanted.maxLevel + 3, className: "over", zIndex: 5 });
    overlay = layer.addTo(map);
    return () => {
      layer.remove();
      overlay = null;
    };
  });

  $effect(() => {
    overlay?.setOpacity(opacity);
  });

  $effect(() => {
    if (!map || !leaflet || boxes.length === 0) return;
    const outlines = leaflet.featureGroup();
    for (const { name, extent } of boxes) {
      const corners = leaflet.latLngBounds([extent.south_deg, extent.west_deg], [extent.north_deg, extent.east_deg]);
      const told = document.createElement("span");
      told.textContent = name;
      leaflet.rectangle(corners, { className: "reach", weight: 2, fill: false }).bindTooltip(told, { sticky: true }).addTo(outlines);
    }
    outlines.addTo(map);
    if (points.length === 0) map.fitBounds(outlines.getBounds().pad(0.05));
    return () => void outlines.remove();
  });

  $effect(() => {
    if (!map || !leaflet || !chosen) return;
    const mark = leaflet.circleMarker(chosen, { radius: 6, className: "mark chosen", interactive: false }).addTo(map);
    return () => void mark.remove();
  });

  $effect(() => {
    const view = together?.view;
    if (!map || !view || view.by === me) return;
    following = true;
    map.setView([view.latitude, view.longitude], view.zoom, { animate: false });
    following = false;
  });

  $effect(() => {
    const at = together?.pointer;
    if (!map || !leaflet || !at || at.by === me) return;
    const mark = leaflet.circleMarker([at.latitude, at.longitude], { radius: 5, className: "mark chosen", interactive: false }).addTo(map);
    return () => void mark.remove();
  });

  const pixel = document.createElement("canvas");
  pixel.width = pixel.height = 1;

  /** The colour that the tiles have at a point of the window. */
  function colourAt(x: number, y: number): string | null {
    const tile = [...place.querySelectorAll<HTMLImageElement>("img.leaflet-tile-loaded")]
      .filter((image) => image.closest(".over"))
      .find((image) => {
        const box = image.getBoundingClientRect();
        return x >= box.left && x < box.right && y >= box.top && y < box.bottom;
      });
    const context = pixel.getContext("2d", { willReadFrequently: true });
    if (!tile || !context) return null;
    const box = tile.getBoundingClientRect();
    context.clearRect(0, 0, 1, 1);
    // One whole pixel: between two of them there are colours that no class has.
    const at = (offset: number, size: number) => Math.min(255, Math.floor((offset / size) * 256));
    context.drawImage(tile, at(x - box.left, box.width), at(y - box.top, box.height), 1, 1, 0, 0, 1, 1);
    const [red = 0, green = 0, blue = 0, clear = 0] = context.getImageData(0, 0, 1, 1).data;
    return clear === 0 ? null : `#${[red, green, blue].map((part) => part.toString(16).padStart(2, "0")).join("")}`;
  }

  function round(degrees: number): number {
    return Math.round(degrees * 1e5) / 1e5;
  }

  /** A step of degrees that gives some lines on the map. */
  function step(range: number): number {
    const rough = range / 5;
    const power = 10 ** Math.floor(Math.log10(rough));
    return ([1, 2, 5, 10].find((n) => n * power >= rough) ?? 10) * power;
  }

  function draw() {
    if (!map || !leaflet || !drawn) return;
    drawn.clearLayers();
    if (!onGround) drawGrid(map, leaflet, drawn);
    drawMarks(map, leaflet, drawn);
  }

  function drawGrid(map: LeafletMap, leaflet: typeof import("leaflet"), drawn: LayerGroup) {
    const bounds = map.getBounds();
    const line = (ends: [number, number][], label: string, at: [number, number]) => {
      leaflet.polyline(ends, { className: "grid-line", interactive: false }).addTo(drawn);
      const icon = leaflet.divIcon({ className: "grid-label", html: label, iconSize: [70, 14], iconAnchor: [-3, 15] });
      leaflet.marker(at, { icon, interactive: false, keyboard: false }).addTo(drawn);
    };
    const [south, north, west, east] = [bounds.getSouth(), bounds.getNorth(), bounds.getWest(), bounds.getEast()];
    const [up, across] = [step(north - south), step(east - west)];
    for (let lat = Math.ceil(south / up) * up; lat < north; lat += up) {
      line(
        [
          [lat, west - 1],
          [lat, east + 1],
        ],
        `${lat.toFixed(up < 0.1 ? 3 : 2)}°`,
        [lat, west],
      );
    }
    for (let lon = Math.ceil(west / across) * across; lon < east; lon += across) {
      line(
        [
          [south - 1, lon],
          [north + 1, lon],
        ],
        `${lon.toFixed(across < 0.1 ? 3 : 2)}°`,
        [south, lon],
      );
    }
  }

  function drawMarks(map: LeafletMap, leaflet: typeof import("leaflet"), drawn: LayerGroup) {
    const named = points.map((point) => {
      const { x, y } = map.latLngToContainerPoint([point.latitude_deg, point.longitude_deg]);
      const fine = FINE.includes(point.state);
      // Colour and shape say what is fine; what is not is said in words as well, and has its room first.
      const told = `${point.name} · ${point.state.replace("_", " ")}`;
      return { x, y, texts: fine ? [point.name] : [told, point.name], first: !fine || point.kind !== "device" };
    });
    const shownOn = labels(named, map.getSize().x);
    for (const [n, point] of points.entries()) {
      const at: [number, number] = [point.latitude_deg, point.longitude_deg];
      const className = `mark mark-${point.state}`;
      const square = leaflet.divIcon({ className: `square ${className}`, iconSize: [12, 12] });
      const mark = point.kind === "device" ? leaflet.marker(at, { icon: square, title: point.name }) : leaflet.circleMarker(at, { radius: 7, className });
      const told = document.createElement("span");
      const label = shownOn[n];
      told.textContent = label?.text ?? named[n]?.texts[0] ?? point.name;
      const side = label?.side ?? "right";
      mark.bindTooltip(told, { permanent: Boolean(label), direction: side, offset: OFFSETS[side] });
      if (point.href) {
        const href = point.href;
        mark.on("click", () => void import("$app/navigation").then(({ goto }) => goto(href)));
      }
      mark.addTo(drawn);
    }
  }
</script>

<div
  bind:this={place}
  class="map rounded-box border border-base-300"
  class:picking={Boolean(pick)}
  class:on-ground={onGround === "ground"}
  style:height
  role="application"
  aria-label={label}
></div>

<style>
  .map {
    background: var(--color-base-200);
    /* Menus lie above it. */
    isolation: isolate;
  }
  /* The sea, which the tiles leave clear. */
  .on-ground {
    background: var(--color-sea);
  }
  /* At zooms between the levels of tiles a hair of the sea would show between two of them. */
  .map :global(.leaflet-tile) {
    width: 256.6px !important;
    height: 256.6px !important;
    mix-blend-mode: normal !important;
  }
  .map:global(.leaflet-container) {
    font-family: inherit;
  }
  .picking {
    cursor: crosshair;
  }
  .map :global(.grid-line) {
    stroke: var(--color-base-300);
    stroke-width: 1;
  }
  .map :global(.grid-label) {
    font-size: 0.7rem;
    color: color-mix(in oklch, var(--color-base-content) 75%, transparent);
  }
  .map :global(.mark) {
    stroke: var(--color-base-100);
    stroke-width: 2;
    fill: var(--color-neutral);
    fill-opacity: 1;
  }
  .map :global(.mark-planned) {
    stroke: var(--color-neutral);
    fill: var(--color-base-100);
  }
  .map :global(.reach) {
    stroke: var(--color-neutral);
    stroke-dasharray: 6 4;
  }
  .map :global(.leaflet-control-attribution) {
    background: color-mix(in oklch, var(--color-base-100) 80%, transparent);
    color: var(--color-base-content);
  }
  .map :global(.chosen) {
    stroke: var(--color-base-content);
    stroke-width: 3;
    fill-opacity: 0;
  }
  .map :global(.square) {
    background: var(--color-neutral);
    border: 2px solid var(--color-base-100);
    border-radius: 2px;
  }
  .map :global(.mark-listening),
  .map :global(.mark-active) {
    fill: var(--color-success);
    background: var(--color-success);
  }
  .map :global(.mark-quiet),
  .map :global(.mark-silent) {
    fill: var(--color-warning);
    background: var(--color-warning);
  }
  .map :global(.mark-lost),
  .map :global(.mark-refused) {
    fill: var(--color-error);
    background: var(--color-error);
  }
  .map :global(.leaflet-tooltip) {
    padding: 0 0.2rem;
    background: color-mix(in oklch, var(--color-base-200) 75%, transparent);
    color: var(--color-base-content);
    border: 0;
    box-shadow: none;
    font-family: inherit;
  }
  .map :global(.leaflet-tooltip::before) {
    display: none;
  }
  .map :global(.leaflet-control-scale-line),
  .map :global(.leaflet-bar a) {
    background: var(--color-base-100);
    color: var(--color-base-content);
    border-color: var(--color-base-300);
    text-shadow: none;
  }
</style>
