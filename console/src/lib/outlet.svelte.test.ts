import { expect, test } from "vitest";
import type { Outlet } from "#lib/api.ts";
import { OutletDraft, columns, pairs, place } from "#lib/outlet.svelte.ts";

const outlet = (more: Partial<Outlet>): Outlet =>
  ({ slug: "quay", shape: "message", types: [], to: { webhook: { url: "https://a/b" } }, secrets_set: [], ...more }) as unknown as Outlet;

test("pairs and columns are read line by line", () => {
  expect(pairs("X-A = b=c\n\n X-B=d ")).toEqual({ "X-A": "b=c", "X-B": "d" });
  expect(columns("level = readings.a:b.value : number\nid = id")).toEqual([
    { column: "level", field: "readings.a:b.value", kind: "number" },
    { column: "id", field: "id", kind: "text" },
  ]);
});

test("a new outlet has only the fields of its kind, and nothing empty", () => {
  const draft = new OutletDraft(null);
  [draft.kind, draft.slug, draft.url, draft.qos] = ["mqtt", "quay", " mqtt://broker ", 2];
  const body = draft.made();
  expect(body.to).toEqual({
    mqtt: { url: "mqtt://broker", topic: draft.topic, version: "5", qos: 2, retain: false, user_properties: {} },
  });
  expect("fleet" in body).toBe(false);
});

test("a change takes away what was taken out of the form", () => {
  const draft = new OutletDraft(outlet({ to: { webhook: { url: "https://a/b", headers: { "X-A": "1", "X-B": "2" } } }, fleet: "tide" }));
  [draft.headers, draft.fleet] = ["X-B = 3", ""];
  const body = draft.change();
  expect(body.fleet).toBe(null);
  expect(body.to).toMatchObject({ webhook: { headers: { "X-A": null, "X-B": "3" }, together: null } });
});

test("what is set is what the form begins with", () => {
  const sql = { url: "postgres://db/quay", account: "heron", table: "readings", columns: [{ column: "id", field: "id", kind: "text" as const }] };
  const draft = new OutletDraft(outlet({ to: { sql }, shape: { script: "function transform(m) { return m; }" } }));
  expect(draft.change()).toMatchObject({ to: { sql }, shape: { script: "function transform(m) { return m; }" } });
  expect(place({ sql })).toBe("readings at postgres://db/quay");
});
