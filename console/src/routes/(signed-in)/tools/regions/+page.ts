import { api, call, every } from "#lib/api.ts";

export const load = async () => ({ regions: await every((query) => call(api.GET("/api/v1/regions", { params: { query } }))) });
