// Values as people read them.
import { times } from "./times.svelte.ts";
import type { BandUse, Fleet, Message, NewRound, Offer, Protocol, Radio, Reading, Scope } from "./api";

/** A time that has passed, in the largest fitting unit. */
function elapsed(s: number): string {
  if (s < 120) return `${s} s`;
  if (s < 7200) return `${Math.floor(s / 60)} min`;
  if (s < 172800) return `${Math.floor(s / 3600)} h`;
  return `${Math.floor(s / 86400)} days`;
}

/** Period ago, in the largest fitting unit. */
export function ago(time: string | null | undefined, now: number): string {
  if (!time) return "never";
  const s = Math.max(0, Math.round((now - Date.parse(time)) / 1000));
  return s < 2 ? "just now" : `${elapsed(s)} ago`;
}

/** How far off something that is to come is. */
export function until(time: string, now: number): string {
  return elapsed(Math.max(0, Math.round((Date.parse(time) - now) / 1000)));
}

/** When something is expected, seen from now, or since when it is overdue. */
export function expected(time: string, now: number): string {
  return Date.parse(time) >= now ? `expected in about ${until(time, now)}` : `was expected ${ago(time, now)}`;
}

/** `messages`, newest first, with one more in its place: an uplink comes a little later than its downlink, as it is decoded first. */
export function withNews(messages: Message[], news: Message, kept: number): Message[] {
  const at = messages.findIndex((m) => m.id <= news.id);
  if (at >= 0 && messages[at]?.id === news.id) return messages;
  return messages.toSpliced(at < 0 ? messages.length : at, 0, news).slice(0, kept);
}

/** The parts of a time in the chosen zone, each with its zeros. */
function parts(time: string | number | Date) {
  const at = new Date(time);
  // A shift to UTC lets the same getters serve both zones.
  const shown = times.utc ? at : new Date(at.getTime() - at.getTimezoneOffset() * 60_000);
  const [date = "", rest = ""] = Number.isNaN(shown.getTime()) ? [] : shown.toISOString().split("T");
  return { date, clock: rest.slice(0, 8), tenth: rest.slice(9, 10) };
}

/** A time of day with tenths of a second. */
export function clock(time: string): string {
  const { clock, tenth } = parts(time);
  return `${clock}.${tenth}`;
}

/** A date and time: 2026-05-04 09:12:33. */
export function moment(time: string | number | Date): string {
  const { date, clock } = parts(time);
  return `${date} ${clock}`;
}

/** The form of a date and time that people enter. */
export const MOMENT = String.raw`\s*\d{4}-\d{2}-\d{2} \d{2}:\d{2}(:\d{2})?\s*`;

/** The instant of a date and time in the chosen zone, as JSON has it; seconds may be left out. Throws if there is no such time. */
export function instant(moment: string): string {
  const at = new Date(`${moment.trim().replace(" ", "T")}${times.utc ? "Z" : ""}`);
  if (Number.isNaN(at.getTime())) throw new Error(`"${moment}" is not a date and time; write it as 2026-05-04 09:12:33.`);
  return at.toISOString();
}

/** An hour and minute: 09:12. */
export function minute(time: string | number | Date): string {
  return parts(time).clock.slice(0, 5);
}

export function value(reading: Reading): string {
  if (reading.word) return reading.word;
  const v = reading.value;
  if (typeof v === "boolean") return v ? "yes" : "no";
  if (typeof v === "number") return String(Math.round(v * 1e6) / 1e6);
  return v;
}

export function radio(radio: Radio): string {
  const rate = radio.spreading_factor ? `SF${radio.spreading_factor}/${radio.bandwidth_khz} kHz` : "FSK";
  return `${radio.data_rate != null ? `DR${radio.data_rate} ` : ""}${rate} · ${radio.frequency_mhz.toFixed(1)} MHz`;
}

/** A duration in a unit that suits it. */
export function duration(s: number): string {
  const round = (n: number) => Math.round(n * 100) / 100;
  if (s < 120) return `${round(s)} s`;
  if (s < 7200) return `${round(s / 60)} min`;
  if (s < 172800) return `${round(s / 3600)} h`;
  return `${round(s / 86400)} days`;
}

/** First and last, or the one there is. */
export function span(first: number | string, last: number | string): string {
  return first === last ? `${first}` : `${first}–${last}`;
}

/** Neighbours that belong together. */
export function runs<T>(all: T[], together: (a: T, b: T) => boolean): T[][] {
  const out: T[][] = [];
  for (const item of all) {
    const run = out.at(-1);
    const before = run?.at(-1);
    if (run && before !== undefined && together(before, item)) run.push(item);
    else out.push([item]);
  }
  return out;
}

/** The fullest sub-band of an account. */
export function fullest(bands: BandUse[]): BandUse | undefined {
  return [...bands].sort((a, b) => b.used_percent - a.used_percent)[0];
}

/** "02a1f00000000001" in groups of four, easier to compare with a label. */
export function grouped(eui: string): string {
  return eui.match(/.{1,4}/g)?.join(" ") ?? eui;
}

/** How gateways call. */
export const PROTOCOLS: Record<Protocol, string> = {
  udp: "UDP packet forwarder",
  websocket: "WebSocket",
  mqtt: "MQTT",
};

/** The kinds of decoder. */
export const DECODERS = { script: "script", table: "field table", low_power: "low-power format", text: "text" } as const;

/** Which versions of a model something is about; the service knows them by these words. */
export function versionWords(version: { hardware?: string[]; firmware?: string[] }): string {
  const named = (what: string, all: string[] | undefined) => (all?.length ? `${what} ${all.join(", ")}` : "");
  return [named("hardware", version.hardware), named("firmware", version.firmware)].filter(Boolean).join(", ");
}

/** The same where there is little room. */
export const WAYS: Record<Protocol, string> = { udp: "UDP", websocket: "WebSocket", mqtt: "MQTT" };

/** A date: 2026-05-04. */
export function day(time: string | number | Date): string {
  return parts(time).date;
}

/** How far something reaches. */
export function scopeWords(scope: Scope): string {
  if (scope === "estate") return "the whole estate";
  return "fleet" in scope ? `fleet ${scope.fleet}` : `device ${scope.device}`;
}

/** What an invitation offers. */
export function offerWords(offer: Offer): string {
  if ("role" in offer) return `to be ${offer.role}`;
  const { scope, may, until } = offer.share;
  return `${scopeWords(scope)}, to ${may}${until ? `, until ${day(until)}` : ""}`;
}

/** Which devices a round is for. */
export function roundWords({ devices, fleet, model, tag }: NewRound): string {
  if (devices?.length) return devices.length === 1 ? "one chosen device" : `${devices.length} chosen devices`;
  const named = { fleet, model, tag };
  return Object.entries(named)
    .filter(([, value]) => value)
    .map(([what, value]) => `${what} ${value}`)
    .join(", ");
}

/** What each device of a fleet may use in any 24 hours. */
export function limitWords(fleet: Pick<Fleet, "airtime_a_day_s" | "downlinks_a_day">): string {
  const { airtime_a_day_s: airtime, downlinks_a_day: downlinks } = fleet;
  const limits = [airtime == null ? "" : `${airtime} s airtime`, downlinks == null ? "" : `${downlinks} ${downlinks === 1 ? "downlink" : "downlinks"}`];
  return limits.filter(Boolean).join(", ") || "only the law's";
}

/** How long a fleet's history is kept. */
export function keptWords(retention: Fleet["retention"]): string {
  const { values_days, summaries_days, messages_days } = retention ?? {};
  const parts: [string, number | null | undefined][] = [
    ["values", values_days],
    ["summaries", summaries_days],
    ["messages", messages_days],
  ];
  const limited = parts.filter(([, days]) => days != null).map(([what, days]) => `${what} ${days} ${days === 1 ? "day" : "days"}`);
  return limited.length === 0 ? "for ever" : limited.length === parts.length ? limited.join(", ") : `${limited.join(", ")}; the rest for ever`;
}

/** A layer of a forecast in words. */
export function layerWord(layer: string): string {
  const words: Record<string, string> = { snr: "SNR", snir: "SNIR", in_reach: "sites that hear it" };
  return words[layer] ?? layer.replaceAll("_", " ");
}

/** How many messages wait. Beyond this many they are not counted. */
export const waiting = (count: number): string => (count >= 100_000 ? "100,000 or more" : String(count));
