import { api, call } from "#lib/api.ts";

export const load = async () => ({ regions: await call(api.GET("/api/v1/regions")) });
