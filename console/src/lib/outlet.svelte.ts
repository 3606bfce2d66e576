// An outlet as somebody sets it up: what the form holds, and the body that is sent of it.
import type { ColumnKind, Destination, MessageType, NewOutlet, Outlet, OutletChange, Shape } from "#lib/api.ts";

export type Kind = "webhook" | "mqtt" | "files" | "sql";

/** What each kind of other side is called. */
export const KINDS: { id: Kind; word: string }[] = [
  { id: "webhook", word: "a web server (webhook)" },
  { id: "mqtt", word: "an MQTT broker" },
  { id: "sql", word: "a table of a database" },
  { id: "files", word: "files on the service's machine" },
];

export const SCRIPT = `function transform(message) {
  if (!message.readings) return null;
  return { device: message.device.name, time: message.time, level: message.readings.water_level?.value };
}
`;

/** The kind of an outlet. */
export function kindOf(to: Destination): Kind {
  return Object.keys(to)[0] as Kind;
}

/** Where an outlet delivers to, in a few words. */
export function place(to: Destination): string {
  if ("webhook" in to) return `${to.webhook.method ?? "POST"} ${to.webhook.url}`;
  if ("mqtt" in to) return `${to.mqtt.topic} at ${to.mqtt.url}`;
  if ("sql" in to) return `${to.sql.table} at ${to.sql.url}`;
  return "files on the service's machine";
}

/** Names and values, one pair a line: `name = value`. */
export function pairs(text: string): Record<string, string> {
  const lines = text.split("\n").filter((line) => line.trim());
  const read = lines.map((line) => {
    const at = line.indexOf("=");
    return at < 0 ? [line.trim(), ""] : [line.slice(0, at).trim(), line.slice(at + 1).trim()];
  });
  return Object.fromEntries(read) as Record<string, string>;
}

/** The same the other way. */
export function lines(of: Record<string, string> | undefined): string {
  return Object.entries(of ?? {})
    .map(([name, value]) => `${name} = ${value}`)
    .join("\n");
}

/** Columns, one a line: `column = field : kind`. */
export function columns(text: string): { column: string; field: string; kind: ColumnKind }[] {
  const read = text.split("\n").filter((line) => line.trim());
  return read.map((line) => {
    const [column = "", rest = ""] = line.split(/=(.*)/s);
    const at = rest.lastIndexOf(":");
    const [field, kind] = at < 0 ? [rest, "text"] : [rest.slice(0, at), rest.slice(at + 1)];
    return { column: column.trim(), field: field.trim(), kind: kind.trim() as ColumnKind };
  });
}

/** Every name of the form's own that was taken away is `null` in a change. */
function changes(before: Record<string, string>, after: Record<string, string>): Record<string, string | null> {
  const gone = Object.keys(before).filter((name) => !(name in after));
  return { ...after, ...Object.fromEntries(gone.map((name) => [name, null])) };
}

/** What the form holds. */
export class OutletDraft {
  #before: Outlet | null;
  kind = $state<Kind>("webhook");
  slug = $state("");
  fleet = $state("");
  types = $state<MessageType[]>([]);
  tag = $state("");
  model = $state("");
  retryHours = $state(6);
  shape = $state<"message" | "flat" | "fields" | "script">("message");
  fields = $state("id\ntime\ndevice.eui\nreadings");
  script = $state(SCRIPT);
  url = $state("");
  account = $state("");
  trust = $state("");
  certificate = $state("");
  // A web server.
  together = $state(1);
  within = $state(1);
  headers = $state("");
  // A broker.
  topic = $state("keen-heron/{fleet}/{device}/{type}");
  version = $state<"3.1.1" | "5">("5");
  qos = $state(1);
  retain = $state(false);
  expiresAfter = $state<number | null>(null);
  properties = $state("");
  takesCommands = $state(false);
  commands = $state("keen-heron/{device}/command");
  answers = $state("keen-heron/{device}/answer");
  // A table.
  table = $state("readings");
  columns = $state("message = id : text\nat = time : time\ndevice = device.name : text\nlevel = readings.water_level.value : number");
  create = $state(true);
  withoutTls = $state(false);
  // Files.
  rotate = $state<"hour" | "day">("day");
  fileMb = $state(64);
  folderMb = $state(1024);
  // Secrets: what is left empty stays.
  signing = $state("");
  bearer = $state("");
  password = $state("");
  key = $state("");
  secretHeaders = $state("");

  constructor(before: Outlet | null) {
    this.#before = before;
    if (!before) return;
    this.kind = kindOf(before.to);
    this.slug = before.slug;
    this.fleet = before.fleet ?? "";
    this.types = before.types ?? [];
    this.tag = before.tag ?? "";
    this.model = before.model ?? "";
    this.retryHours = (before.retry_for_s ?? 21_600) / 3600;
    this.#readShape(before.shape ?? "message");
    this.#readPlace(before.to);
  }

  #readShape(shape: Shape) {
    if (typeof shape === "string") this.shape = shape;
    else if ("fields" in shape) [this.shape, this.fields] = ["fields", shape.fields.join("\n")];
    else [this.shape, this.script] = ["script", shape.script];
  }

  #readPlace(to: Destination) {
    if ("webhook" in to) {
      const of = to.webhook;
      [this.url, this.account, this.headers] = [of.url, of.account ?? "", lines(of.headers)];
      [this.trust, this.certificate] = [of.trust ?? "", of.certificate ?? ""];
      [this.together, this.within] = [of.together?.most ?? 1, of.together?.within_s ?? 1];
    } else if ("mqtt" in to) {
      const of = to.mqtt;
      [this.url, this.account, this.topic] = [of.url, of.account ?? "", of.topic];
      [this.trust, this.certificate, this.properties] = [of.trust ?? "", of.certificate ?? "", lines(of.user_properties)];
      [this.version, this.qos, this.retain] = [of.version ?? "5", of.qos ?? 1, of.retain ?? false];
      this.expiresAfter = of.expires_after_s ?? null;
      this.takesCommands = of.commands != null;
      if (of.commands) [this.commands, this.answers] = [of.commands.topic, of.commands.answers];
    } else if ("sql" in to) {
      const of = to.sql;
      [this.url, this.account, this.table, this.trust] = [of.url, of.account, of.table, of.trust ?? ""];
      this.columns = of.columns.map((one) => `${one.column} = ${one.field} : ${one.kind}`).join("\n");
      [this.create, this.withoutTls] = [of.create ?? false, of.without_tls ?? false];
    } else {
      const of = to.files;
      [this.rotate, this.fileMb, this.folderMb] = [of.rotate ?? "day", of.file_mb ?? 64, of.folder_mb ?? 1024];
    }
  }

  /** The shape that is chosen. */
  chosenShape(): Shape {
    if (this.shape === "script") return { script: this.script };
    const paths = this.fields.split("\n").map((line) => line.trim());
    return this.shape === "fields" ? { fields: paths.filter((path) => path) } : this.shape;
  }

  #place(): Record<string, unknown> {
    const own = { url: this.url.trim(), account: this.account.trim() || null, trust: this.trust.trim() || null };
    const before = this.#before?.to;
    switch (this.kind) {
      case "webhook": {
        const had = before && "webhook" in before ? (before.webhook.headers ?? {}) : {};
        const together = this.together > 1 ? { most: this.together, within_s: this.within } : null;
        return { webhook: { ...own, certificate: this.certificate.trim() || null, headers: changes(had, pairs(this.headers)), together } };
      }
      case "mqtt": {
        const had = before && "mqtt" in before ? (before.mqtt.user_properties ?? {}) : {};
        const is5 = this.version === "5";
        const commands = this.takesCommands ? { topic: this.commands.trim(), answers: this.answers.trim() } : null;
        const told = { topic: this.topic.trim(), version: this.version, qos: this.qos, retain: this.retain, commands };
        const only5 = { expires_after_s: is5 ? this.expiresAfter : null, user_properties: changes(had, is5 ? pairs(this.properties) : {}) };
        return { mqtt: { ...own, certificate: this.certificate.trim() || null, ...told, ...only5 } };
      }
      case "sql": {
        const told = { table: this.table.trim(), columns: columns(this.columns), create: this.create, without_tls: this.withoutTls };
        return { sql: { ...own, account: this.account.trim(), ...told } };
      }
      case "files":
        return { files: { rotate: this.rotate, file_mb: this.fileMb, folder_mb: this.folderMb } };
    }
  }

  #secrets(): Record<string, unknown> {
    const given: [string, string][] = [
      ["signing", this.signing],
      ["bearer", this.bearer],
      ["password", this.password],
      ["key", this.key],
    ];
    const set = Object.fromEntries(given.filter(([, value]) => value));
    if (!this.secretHeaders.trim()) return set;
    // A name with nothing after it takes away the one that is set.
    const known = this.#before?.secrets_set ?? [];
    const headers = Object.entries(pairs(this.secretHeaders)).map(([name, value]) => [name, value === "" && known.includes(`headers.${name}`) ? null : value]);
    return { ...set, headers: Object.fromEntries(headers) as Record<string, string | null> };
  }

  #all() {
    return {
      slug: this.slug,
      fleet: this.fleet || null,
      types: this.types,
      tag: this.tag.trim() || null,
      model: this.model || null,
      shape: this.chosenShape(),
      retry_for_s: Math.max(1, this.retryHours * 3600),
      to: this.#place(),
      secrets: this.#secrets(),
    };
  }

  /** A new outlet: what has no value is left out. */
  made(): NewOutlet {
    return JSON.parse(JSON.stringify(this.#all(), (_, value: unknown) => value ?? undefined)) as NewOutlet;
  }

  /** A change of the one that is there: what has no value is taken away. */
  change(): OutletChange {
    return this.#all() as OutletChange;
  }
}
