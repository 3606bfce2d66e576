// Who is signed in, and which estate is looked at.
import { goto } from "$app/navigation";
import { api, type Me } from "./api";

class Session {
  me = $state<Me | null>(null);

  /** The estate's short name; the first one, until there is a way to have several. */
  get estate(): string {
    return this.me?.estates[0]?.slug ?? "";
  }

  get estateName(): string {
    return this.me?.estates[0]?.name ?? "";
  }

  /** Asks the service who we are; sends to the sign-in page if it does not know us. */
  async load(): Promise<boolean> {
    const { data } = await api.GET("/api/v1/me");
    this.me = data ?? null;
    if (!data) await goto("/sign-in");
    return Boolean(data);
  }

  async signOut() {
    await api.POST("/api/v1/sign-out");
    this.me = null;
    await goto("/sign-in");
  }
}

export const session = new Session();
