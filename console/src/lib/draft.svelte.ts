// The decoder and the readings of a model while somebody edits them.
import type { Model, ReadingRule, TestPayload, TriedUplink } from "./api";
import { DECODERS, versionWords } from "./format.ts";

export type Kind = keyof typeof DECODERS;
type Decoder = { source: string; kind: Kind; tests: TestPayload[] };

const EMPTY = "function decodeUplink(input) {\n  return { data: {} };\n}\n";

const same = (one: unknown, other: unknown) => JSON.stringify(one) === JSON.stringify(other);

export class Draft {
  model = $state.raw<Model | null>(null);
  /** The version whose decoder is edited; empty for all that have none of their own. */
  version = $state("");
  source = $state("");
  kind = $state<Kind>("script");
  rules = $state<Record<string, ReadingRule>>({});
  tests = $state<TestPayload[]>([]);

  versions = $derived((this.model?.versions ?? []).map(versionWords));

  /** What is in use now. */
  current: Decoder = $derived.by(() => {
    const own = this.model?.versions?.find((one) => versionWords(one) === this.version);
    const { decoder, decoder_kind, tests } = own ?? this.model ?? {};
    return { source: decoder ?? "", kind: decoder_kind ?? "script", tests: tests ?? [] };
  });

  /** Whether it differs from what is in use. */
  changed = $derived(
    this.model !== null &&
      (this.source !== (this.current.source || EMPTY) ||
        this.kind !== this.current.kind ||
        !same(this.rules, this.model.readings ?? {}) ||
        !same(this.tests, this.current.tests)),
  );

  /** What the service is asked to try; nothing of a decoder if there is none. */
  question = $derived.by(() => {
    const decoded = Boolean(this.model?.decoder) || this.changed;
    return {
      decoder: decoded ? this.source : null,
      decoder_kind: this.kind,
      version: this.version || null,
      readings: this.rules,
      tests: decoded ? this.tests : null,
    };
  });

  /** Starts over from what is in use. */
  begin() {
    this.source = this.current.source || EMPTY;
    this.kind = this.current.kind;
    this.tests = structuredClone(this.current.tests);
    this.rules = structuredClone(this.model?.readings ?? {});
  }

  take(model: Model) {
    this.model = model;
    this.begin();
  }

  /** Whether a reading's rule is as it is in use. */
  ruleStands(reading: string): boolean {
    return same(this.rules[reading], this.model?.readings?.[reading]);
  }

  /** What the draft makes of a payload becomes a test: as the decoder gives it, before scales and words. */
  keep({ device, port, payload, after }: TriedUplink) {
    if (this.tests.some((test) => test.port === port && test.bytes === payload)) return;
    const stem = `${device?.name ?? "pasted"}, port ${port}`;
    const taken = (name: string) => this.tests.some((test) => test.name === name);
    let name = stem;
    for (let n = 2; taken(name); n += 1) name = `${stem}, ${n}`;
    const readings = Object.fromEntries(Object.entries(after.readings).map(([of, reading]) => [of, reading.raw ?? reading.value]));
    this.tests = [...this.tests, { name, port, bytes: payload, readings, fails: !!after.problem }];
  }

  /** The model with what is drafted, as it is saved, and the revision it is based on. */
  saved() {
    const model = structuredClone(this.model);
    if (!model) return null;
    const about = $state.snapshot({ decoder: this.source, decoder_kind: this.kind, tests: this.tests });
    const own = model.versions?.find((one) => versionWords(one) === this.version);
    Object.assign(own ?? model, about);
    const { slug: _slug, flaw: _flaw, source: _source, edited: _edited, changed_at: _changed, revision, ...body } = model;
    return { revision: revision ?? "", body: { ...body, readings: $state.snapshot(this.rules) as Record<string, ReadingRule> } };
  }
}
