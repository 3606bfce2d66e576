// Sites as points of a map.
import type { Site } from "./api";

/** The sites that have a place. */
export function sitePoints(sites: Site[]) {
  return sites.flatMap(({ name, gateway, latitude_deg, longitude_deg }) => {
    if (latitude_deg == null || longitude_deg == null) return [];
    const kind = gateway ? { kind: "gateway" as const, state: "listening" } : { kind: "planned" as const, state: "planned" };
    return [{ name, ...kind, latitude_deg, longitude_deg }];
  });
}
