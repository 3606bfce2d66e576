import { redirect } from "@sveltejs/kit";
import { session } from "#lib/session.svelte.ts";

const WITHOUT_ESTATE = ["/account", "/installation"];

/** Everything here is for those who are signed in. Whoever is in no estate can only look after the account, or the installation. */
export async function load({ url, untrack }) {
  if (!(await session.ask())) redirect(307, "/sign-in");
  const path = untrack(() => url.pathname);
  if (session.estate || WITHOUT_ESTATE.some((place) => path.startsWith(place))) return;
  redirect(307, session.me?.keeps_installation ? "/installation" : "/account");
}
