// The drawn ground under maps: tiles of the service's own, so that no network is needed.
import type { Map as LeafletMap } from "leaflet";
import { api } from "./api";

type Leaflet = typeof import("leaflet");

/** The address of tiles on light or dark paper. */
export function tiles(theme: string | undefined): string {
  return `/api/v1/ground/tiles/{z}/{x}/{y}?paper=${theme === "dusk" ? "dark" : "light"}`;
}

/** Lays the ground under a map, if the service has files of it; follows the theme. Says whether there is one. */
export async function layGround(leaflet: Leaflet, map: LeafletMap, gone: AbortSignal): Promise<boolean> {
  const { data } = await api.GET("/api/v1/ground");
  const extent = data?.extent;
  if (!extent || gone.aborted) return false;
  const root = document.documentElement;
  const bounds = leaflet.latLngBounds([extent.south_deg, extent.west_deg], [extent.north_deg, extent.east_deg]);
  const layer = leaflet.tileLayer(tiles(root.dataset.theme), { bounds, maxNativeZoom: data.max_level, maxZoom: data.max_level + 3 }).addTo(map);
  const watcher = new MutationObserver(() => layer.setUrl(tiles(root.dataset.theme)));
  watcher.observe(root, { attributeFilter: ["data-theme"] });
  gone.addEventListener("abort", () => watcher.disconnect());
  return true;
}
