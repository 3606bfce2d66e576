// Who is signed in, which estate is looked at, and what one may do there.
import { goto } from "$app/navigation";
import { api, type Estate, type Me, type Right } from "./api";

const KEPT = "estate";
/** Until the service is asked again who we are, while its database is away. */
const AGAIN_MS = 3000;

class Session {
  me = $state<Me | null>(null);
  #chosen = $state(localStorage.getItem(KEPT) ?? "");

  get #here(): Estate | undefined {
    return this.me?.estates.find((estate) => estate.slug === this.#chosen) ?? this.me?.estates[0];
  }

  /** The estate's short name; the first one, until another is chosen. */
  get estate(): string {
    return this.#here?.slug ?? "";
  }

  get estateName(): string {
    return this.#here?.name ?? "";
  }

  /** What one is in the estate; nothing if only a part is shared. */
  get role(): string | undefined {
    return this.#here?.role ?? undefined;
  }

  /** Whether one sees all of the estate, not only what is shared. */
  get whole(): boolean {
    return (this.#here?.only ?? []).length === 0;
  }

  /** Whether one has a right in the estate. The service decides; this is so that nobody is offered what is refused. */
  may(right: Right): boolean {
    return this.#here?.rights.includes(right) ?? false;
  }

  /** The other estates that one sees all of and has a right in. */
  others(right: Right): Estate[] {
    return (this.me?.estates ?? []).filter(({ slug, only, rights }) => slug !== this.estate && (only ?? []).length === 0 && rights.includes(right));
  }

  /** Goes on in another estate, at one of its pages. */
  choose(slug: string, to = "/") {
    this.#chosen = slug;
    localStorage.setItem(KEPT, slug);
    // All that is on the page is this estate's.
    location.assign(to);
  }

  /** Asks the service who we are; says whether it knows us. While it cannot say, it is asked again. */
  async ask(): Promise<boolean> {
    for (;;) {
      const { data, response } = await api.GET("/api/v1/me");
      if (data || response.status === 401) {
        this.me = data ?? null;
        return Boolean(data);
      }
      await new Promise((resolve) => setTimeout(resolve, AGAIN_MS));
    }
  }

  /** The same; sends to the sign-in page if the service does not know us. */
  async load() {
    if (!(await this.ask())) await goto("/sign-in");
  }

  async signOut() {
    await api.POST("/api/v1/sign-out");
    // Not before: what is still shown would ask for nobody's estate.
    await goto("/sign-in");
    this.me = null;
  }
}

export const session = new Session();
