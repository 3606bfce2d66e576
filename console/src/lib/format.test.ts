import { beforeEach, describe, expect, it, vi } from "vitest";
import type { Message } from "./api.ts";

const times = vi.hoisted(() => ({ utc: true }));
vi.mock("./times.svelte.ts", () => ({ times }));

const { ago, clock, day, duration, expected, grouped, instant, minute, moment, runs, scopeWords, span, until, withNews } = await import("./format.ts");

beforeEach(() => {
  times.utc = true;
});

describe("times", () => {
  const at = "2026-05-04T09:12:33.481Z";

  it("have one form", () => {
    expect([moment(at), day(at), minute(at), clock(at)]).toEqual(["2026-05-04 09:12:33", "2026-05-04", "09:12", "09:12:33.4"]);
  });

  it("are read in the form in which they are shown", () => {
    expect(instant("2026-05-04 09:12:33")).toBe("2026-05-04T09:12:33.000Z");
    expect(instant(" 2026-05-04 09:12 ")).toBe("2026-05-04T09:12:00.000Z");
    times.utc = false;
    expect(moment(instant("2026-05-04 09:12:33"))).toBe("2026-05-04 09:12:33");
    expect(() => instant("2026-13-04 09:12:33")).toThrow("2026-13-04 09:12:33");
  });

  it("are shown in the viewer's zone unless UTC is chosen", () => {
    times.utc = false;
    const local = new Date(at);
    const two = (n: number) => String(n).padStart(2, "0");
    expect(minute(at)).toBe(`${two(local.getHours())}:${two(local.getMinutes())}`);
  });

  it("that are none leave nothing to show", () => {
    expect(moment("no time").trim()).toBe("");
  });

  it("are told from now in the largest fitting unit", () => {
    const now = Date.parse(at);
    expect([ago(null, now), ago(at, now), ago(at, now + 119_000), ago(at, now + 7_199_000), ago(at, now + 200_000_000)]).toEqual([
      "never",
      "just now",
      "119 s ago",
      "119 min ago",
      "2 days ago",
    ]);
    expect([until(at, now - 45_000), expected(at, now - 540_000), expected(at, now + 240_000)]).toEqual([
      "45 s",
      "expected in about 9 min",
      "was expected 4 min ago",
    ]);
  });
});

describe("lists", () => {
  it("equal neighbours make a run", () => {
    expect(runs([1, 1, 2, 1], (a, b) => a === b)).toEqual([[1, 1], [2], [1]]);
    expect(runs([], () => true)).toEqual([]);
  });

  it("news stand in their order, once, and the oldest gives way", () => {
    const message = (id: string) => ({ id }) as Message;
    const ids = (all: Message[]) => all.map(({ id }) => id);
    const before = [message("c"), message("a")];
    expect(ids(withNews(before, message("b"), 9))).toEqual(["c", "b", "a"]);
    expect(ids(withNews(before, message("c"), 9))).toEqual(["c", "a"]);
    expect(ids(withNews(before, message("d"), 2))).toEqual(["d", "c"]);
  });
});

describe("words", () => {
  it("name durations, spans, EUIs and scopes", () => {
    expect([duration(119), duration(7199), duration(90_000)]).toEqual(["119 s", "119.98 min", "25 h"]);
    expect([span(3, 3), span(3, 5)]).toEqual(["3", "3–5"]);
    expect(grouped("02a1f00000000001")).toBe("02a1 f000 0000 0001");
    expect([scopeWords("estate"), scopeWords({ fleet: "tide" })]).toEqual(["the whole estate", "fleet tide"]);
  });
});
