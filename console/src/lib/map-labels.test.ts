import { describe, expect, it } from "vitest";
import { sides } from "./map-labels.ts";

const at = (x: number, y: number, text = "sluice-07", first = false) => ({ x, y, text, first });

describe("names on a map", () => {
  it("stand at the right, or at the left of what is near the edge", () => {
    expect(sides([at(50, 50), at(380, 50)], 400)).toEqual(["right", "left"]);
  });

  it("do not cover one another, nor marks", () => {
    expect(sides([at(100, 50), at(100, 54), at(100, 58)], 400)).toEqual(["right", "left", null]);
    expect(sides([at(100, 50), at(140, 50)], 400)).toEqual(["left", "right"]);
  });

  it("have their room first where something is wrong", () => {
    expect(sides([at(100, 50), at(100, 54), at(100, 58, "sluice-07 · silent", true)], 400)[2]).toBe("right");
  });
});
