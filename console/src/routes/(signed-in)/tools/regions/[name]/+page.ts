import { api, call } from "#lib/api.ts";
import type { PageLoad } from "./$types";

export const load: PageLoad = async ({ params }) => ({
  region: await call(api.GET("/api/v1/regions/{region}", { params: { path: { region: params.name } } })),
});
