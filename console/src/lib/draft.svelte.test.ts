import { describe, expect, it, vi } from "vitest";
import type { Model, TriedUplink } from "./api";

vi.mock("./times.svelte.ts", () => ({ times: { utc: true } }));
const { Draft } = await import("./draft.svelte.ts");

const model = {
  slug: "flood-gauge",
  maker: "Skerry",
  name: "Flood gauge",
  decoder: "function decodeUplink() {}",
  decoder_kind: "script",
  readings: { level: { unit: "m" } },
  versions: [{ firmware: ["2"], decoder: "function decodeUplink() { return 2 }", decoder_kind: "script" }],
  revision: "7",
} as unknown as Model;

function begun() {
  const draft = new Draft();
  draft.take(model);
  return draft;
}

describe("a draft", () => {
  it("is none until something differs", () => {
    const draft = begun();
    expect(draft.changed).toBe(false);
    draft.source += " ";
    expect(draft.changed).toBe(true);
    draft.begin();
    expect(draft.changed).toBe(false);
    draft.rules.level = { unit: "cm" } as never;
    expect([draft.changed, draft.ruleStands("level")]).toEqual([true, false]);
  });

  it("of a version is saved there, and leaves the model as it was", () => {
    const draft = begun();
    draft.version = draft.versions[0] ?? "";
    draft.begin();
    draft.source = "other";
    const { revision, body } = draft.saved()!;
    expect([revision, body.decoder, body.versions?.[0]?.decoder]).toEqual(["7", model.decoder, "other"]);
    expect(model.versions?.[0]?.decoder).not.toBe("other");
    expect(body).not.toHaveProperty("slug");
  });

  it("keeps each payload once, each under its own name", () => {
    const draft = begun();
    const tried = (payload: string) => ({ device: { name: "tide-01" }, port: 2, payload, after: { readings: { level: { value: 1.5, raw: 150 } } } });
    for (const payload of ["96", "96", "97"]) draft.keep(tried(payload) as unknown as TriedUplink);
    expect(draft.tests.map(({ name, readings }) => [name, readings])).toEqual([
      ["tide-01, port 2", { level: 150 }],
      ["tide-01, port 2, 2", { level: 150 }],
    ]);
  });
});
