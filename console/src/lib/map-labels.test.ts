import { describe, expect, it } from "vitest";
import { labels } from "./map-labels.ts";

const at = (x: number, y: number, texts = ["sluice-07"], first = false) => ({ x, y, texts, first });
const sides = (points: ReturnType<typeof at>[]) => labels(points, 400).map((label) => label?.side);

describe("names on a map", () => {
  it("stand at the right, or at the left of what is near the edge, or above or below", () => {
    expect(sides([at(50, 50), at(380, 50)])).toEqual(["right", "left"]);
  });

  it("do not cover one another, nor marks", () => {
    expect(sides([at(100, 50), at(100, 54), at(100, 58)])).toEqual(["right", "left", "bottom"]);
    expect(sides([at(100, 50), at(140, 50)])).toEqual(["left", "right"]);
  });

  it("have their room first where something is wrong, and are shorter where it is narrow", () => {
    const wrong = ["sluice-07 · silent", "sluice-07"];
    expect(sides([at(100, 50), at(100, 54), at(100, 58, wrong, true)])[2]).toBe("right");
    expect(labels([at(30, 50, wrong, true)], 100)).toEqual([{ side: "right", text: "sluice-07" }]);
  });

  it("are left out of a map of very many", () => {
    const many = Array.from({ length: 401 }, (_, n) => at(n * 100, 50));
    expect(labels(many, 50_000).every((label) => label === null)).toBe(true);
  });
});
