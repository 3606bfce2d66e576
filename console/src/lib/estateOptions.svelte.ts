// What devices refer to in an estate: its fleets, models and radio profiles.
import { api } from "#lib/api.ts";
import { session } from "#lib/session.svelte.ts";

type Named = { slug: string; name: string };

class EstateOptions {
  fleets = $state<(Named & { has_default_key: boolean })[]>([]);
  models = $state<Named[]>([]);
  profiles = $state<(Named & { region: string })[]>([]);

  /** Loads them again. */
  async load() {
    const params = { path: { estate: session.estate }, query: { limit: 500 } };
    const [fleets, models, profiles] = await Promise.all([
      api.GET("/api/v1/estates/{estate}/fleets", { params }),
      api.GET("/api/v1/estates/{estate}/models", { params }),
      api.GET("/api/v1/estates/{estate}/profiles", { params }),
    ]);
    this.fleets = fleets.data?.items ?? this.fleets;
    this.models = models.data?.items ?? this.models;
    this.profiles = profiles.data?.items ?? this.profiles;
  }
}

export const estateOptions = new EstateOptions();

/** Loads them when a component starts, and gives them. */
export function useEstateOptions(): EstateOptions {
  $effect(() => void estateOptions.load());
  return estateOptions;
}
