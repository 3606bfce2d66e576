// What pages show of the service, kept fresh, and what people do there.
import { CallError, problemOf, type Message, type Problem } from "./api";
import { live } from "./live.svelte.ts";

type Options<T> = {
  /** What a message changes in it at once, without asking. */
  fold?: (value: T, message: Message) => T;
  /** Messages after which it is asked for again. */
  on?: (message: Message) => boolean;
  /** Asked for again after so long. */
  everyMs?: number;
  /** Messages make it ask no more often than this. */
  atMostEveryMs?: number;
  /** For what follows somebody's typing: it is asked for when `key` has not changed for so long. */
  typing?: { key: () => unknown; pauseMs: number };
};

export class Resource<T> {
  /** The last good answer. */
  value = $state.raw<T | null>(null);
  /** Why there is no newer one. */
  problem = $state("");
  /** It was asked for, and the answer is not there yet. */
  busy = $state(false);
  #ask: () => Promise<T>;
  #asked = 0;
  #turn = 0;

  constructor(ask: () => Promise<T>) {
    this.#ask = ask;
  }

  /** Asks again. If several answers are pending, only the one asked for last counts. */
  load = async (): Promise<void> => {
    const turn = ++this.#turn;
    this.#asked = Date.now();
    this.busy = true;
    try {
      const value = await this.#ask();
      if (turn !== this.#turn) return;
      this.value = value;
      this.problem = "";
    } catch (error) {
      if (turn === this.#turn) this.problem = problemOf(error);
    } finally {
      if (turn === this.#turn) this.busy = false;
    }
  };

  /** An answer under way no longer counts. */
  forget() {
    this.#turn += 1;
    this.busy = false;
  }

  /** Asks again, unless it was just asked for. */
  refresh(atMostEveryMs: number) {
    if (Date.now() - this.#asked > atMostEveryMs) void this.load();
  }
}

/**
 * Something of the service's, for as long as the component is there. It is asked for at once, again when something changes
 * that `ask` reads before it first waits, and when the live stream has missed something.
 */
export function resource<T>(ask: () => Promise<T>, { fold, on, everyMs, atMostEveryMs = 3000, typing }: Options<T> = {}): Resource<T> {
  const held = new Resource(ask);
  $effect(() => {
    if (!typing) return void held.load();
    JSON.stringify(typing.key());
    held.forget();
    const timer = setTimeout(held.load, typing.pauseMs);
    return () => clearTimeout(timer);
  });
  $effect(() => {
    if (!on && !fold) return;
    return live.listen((message) => {
      if (fold && held.value !== null) held.value = fold(held.value, message);
      if (on?.(message)) held.refresh(atMostEveryMs);
    }, held.load);
  });
  $effect(() => {
    if (!everyMs) return;
    const timer = setInterval(held.load, everyMs);
    return () => clearInterval(timer);
  });
  return held;
}

type Page<T> = { items: T[]; next?: string | null };

/** Puts the next page of a list behind what is shown of it. */
export async function showMore<P extends Page<unknown>>(list: Resource<P>, fetchPage: (after?: string) => Promise<P>): Promise<void> {
  const page = await fetchPage(list.value?.next ?? undefined);
  list.value = { ...page, items: [...(list.value?.items ?? []), ...page.items] };
}

/** Something a person does: whether it is under way, and why it did not work. */
export class Action {
  busy = $state(false);
  problem = $state("");
  /** What the service said, if it refused. */
  refusal = $state.raw<Problem | undefined>();

  clear() {
    this.problem = "";
    this.refusal = undefined;
  }

  /** Does the work and returns its result, or nothing if it failed. */
  async run<T>(work: () => Promise<T>): Promise<T | undefined> {
    this.busy = true;
    this.clear();
    try {
      return await work();
    } catch (error) {
      this.problem = problemOf(error);
      this.refusal = error instanceof CallError ? error.problem : undefined;
      return undefined;
    } finally {
      this.busy = false;
    }
  }
}
