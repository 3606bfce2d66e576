import type { HandleClientError } from "@sveltejs/kit/hooks";
import { CallError } from "#lib/api.ts";

/** What a page that cannot be shown says: the service's own words where there are some. */
export const handleError: HandleClientError = ({ error }) => (error instanceof CallError ? { message: error.message } : undefined);
