// One live stream for all pages, and a clock for everything that says how long ago.
import type { Message } from "./api";

type Listener = (message: Message) => void;

class Live {
  connected = $state(false);
  /** Ticks once a second. */
  now = $state(Date.now());
  #source: EventSource | null = null;
  #listeners = new Set<Listener>();
  #refreshers = new Set<() => void>();

  /** Opens the stream of an estate; gives what closes it. */
  open(estate: string): () => void {
    this.#connect(estate);
    const clock = setInterval(() => (this.now = Date.now()), 1000);
    // A page that was left may be kept to go back to, and would hold one of the browser's few
    // connections to the service as long.
    const leave = () => this.#source?.close();
    const comeBack = (event: PageTransitionEvent) => {
      if (!event.persisted) return;
      this.#connect(estate);
      for (const refresh of this.#refreshers) refresh();
    };
    addEventListener("pagehide", leave);
    addEventListener("pageshow", comeBack);
    return () => {
      removeEventListener("pagehide", leave);
      removeEventListener("pageshow", comeBack);
      clearInterval(clock);
      this.#source?.close();
      this.connected = false;
    };
  }

  #connect(estate: string) {
    this.#source = new EventSource(`/api/v1/estates/${estate}/live`);
    let opened = false;
    this.#source.onopen = () => {
      this.connected = true;
      // After a break, what was missed may be more than the stream repeats.
      if (opened) for (const refresh of this.#refreshers) refresh();
      opened = true;
    };
    this.#source.onerror = () => (this.connected = false);
    this.#source.addEventListener("gap", () => {
      for (const refresh of this.#refreshers) refresh();
    });
    this.#source.onmessage = (event) => {
      const message = JSON.parse(event.data) as Message;
      for (const listener of this.#listeners) listener(message);
    };
  }

  /** Calls `listener` for each message, and `refresh` when some were missed, until what it gives is called. */
  listen(listener: Listener, refresh: () => void): () => void {
    this.#listeners.add(listener);
    this.#refreshers.add(refresh);
    return () => {
      this.#listeners.delete(listener);
      this.#refreshers.delete(refresh);
    };
  }
}

export const live = new Live();
