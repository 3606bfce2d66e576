// What a page keeps in its address.
import { page } from "$app/state";
import { goto } from "$app/navigation";

/** Keeps a choice in the address; an empty one is left out. */
export function keepInAddress(name: string, value: string): void {
  const query = new URLSearchParams(page.url.search);
  if (value) query.set(name, value);
  else query.delete(name);
  void goto(`?${query}`, { replace: true, reset: false });
}
