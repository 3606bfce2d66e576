// What lies under maps: map tiles that the operator has named, or the drawn ground, the estate's own or the operator's, which
// needs no network.
import type { Map as LeafletMap, TileLayerOptions } from "leaflet";
import { api } from "./api";
import { session } from "./session.svelte";

type Leaflet = typeof import("leaflet");

/** The paper of a theme. */
function paper(theme: string | undefined): string {
  return theme === "dusk" ? "dark" : "light";
}

/** The address of tiles of an estate's ground. */
export function groundTiles(estate: string, question: { edition: string; view?: string; paper?: string }): string {
  return `/api/v1/estates/${estate}/ground/tiles/{z}/{x}/{y}?${new URLSearchParams(question)}`;
}

/** The ground of this estate for those who see all of it; for all others that of the operator. */
async function drawn() {
  const estate = session.estate;
  if (session.whole) {
    const { data } = await api.GET("/api/v1/estates/{estate}/ground", { params: { path: { estate } } });
    if (data) return { ...data, on: (theme: string | undefined) => groundTiles(estate, { edition: data.edition, paper: paper(theme) }) };
  }
  const { data } = await api.GET("/api/v1/ground");
  return data && { ...data, on: (theme: string | undefined) => `/api/v1/ground/tiles/{z}/{x}/{y}?paper=${paper(theme)}` };
}

/** Lays under a map what there is; follows the theme. Says whether there is anything. */
export async function layGround(leaflet: Leaflet, map: LeafletMap, gone: AbortSignal): Promise<"tiles" | "ground" | null> {
  const { data } = await api.GET("/api/v1/ground");
  if (gone.aborted) return null;
  if (data?.tiles) {
    const { address, credit, max_level } = data.tiles;
    const shown = document.createElement("span");
    shown.textContent = credit;
    const options: TileLayerOptions = { maxNativeZoom: max_level, maxZoom: Math.max(max_level, 19), attribution: shown.innerHTML, className: "elsewhere" };
    leaflet.tileLayer(address, options).addTo(map);
    if (credit) leaflet.control.attribution({ prefix: false, position: "bottomleft" }).addTo(map).addAttribution(shown.innerHTML);
    return "tiles";
  }
  const ground = await drawn();
  const extent = ground?.extent;
  if (!extent || gone.aborted) return null;
  const root = document.documentElement;
  const bounds = leaflet.latLngBounds([extent.south_deg, extent.west_deg], [extent.north_deg, extent.east_deg]);
  const levels = { maxNativeZoom: ground.max_level, maxZoom: ground.max_level + 3 };
  const layer = leaflet.tileLayer(ground.on(root.dataset.theme), { bounds, ...levels }).addTo(map);
  const watcher = new MutationObserver(() => layer.setUrl(ground.on(root.dataset.theme)));
  watcher.observe(root, { attributeFilter: ["data-theme"] });
  gone.addEventListener("abort", () => watcher.disconnect());
  return "ground";
}
