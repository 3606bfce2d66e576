// The service, typed by its OpenAPI document.
import createClient from "openapi-fetch";
import type { components, paths } from "./generated/api";

type Schemas = components["schemas"];
export type Gateway = Schemas["Gateway"];
export type Stranger = Schemas["Stranger"];
export type Device = Schemas["Device"];
export type DeviceDetail = Schemas["DeviceDetail"];
export type OutboxItem = Schemas["OutboxItem"];
export type NewOutboxItem = Schemas["NewOutboxItem"];
export type OutboxPlace = Schemas["OutboxPlace"];
export type OutboxReadBack = Schemas["OutboxReadBack"];
export type TestCommand = Schemas["TestCommand"];
export type Message = Schemas["Message"];
export type Reading = Schemas["Reading"];
export type Radio = Schemas["Radio"];
export type Evidence = Schemas["Evidence"];
export type HeardBy = Schemas["HeardBy"];
export type BandUse = Schemas["BandUse"];
export type Finding = Schemas["Finding"];
export type DeviceWhy = Schemas["DeviceWhy"];
export type Agreement = Schemas["Agreement"];
export type Ledger = Schemas["Ledger"];
export type Spans = Schemas["Spans"];
export type DayStrip = Schemas["DayStrip"];
export type FrameReport = Schemas["FrameReport"];
export type FrameField = Schemas["FrameField"];
export type RegionSummary = Schemas["RegionSummary"];
export type RegionDetail = Schemas["RegionDetail"];
export type ChannelInfo = Schemas["ChannelInfo"];
export type AirtimeTable = Schemas["AirtimeTable"];
export type GatewayCredential = Schemas["GatewayCredential"];
export type GatewayEvent = Schemas["GatewayEvent"];
export type Endings = Schemas["Endings"];
export type Reception = Schemas["Reception"];
export type UptimeDay = Schemas["UptimeDay"];
export type ImportOutcome = Schemas["ImportOutcome"];
export type ReadBack = Schemas["ReadBack"];
export type ShownKeys = Schemas["ShownKeys"];
export type DeviceImportOutcome = Schemas["DeviceImportOutcome"];
export type ImportProgress = Schemas["ImportProgress"];
export type DeviceChange = Schemas["DeviceChange"];
export type StoredProfile = Schemas["StoredProfile"];
export type ChangeEffect = Schemas["ChangeEffect"];
export type RadioSettings = Schemas["RadioSettings"];
export type Fleet = Schemas["Fleet"];
export type Protocol = Schemas["Protocol"];
export type Watch = Schemas["Watch"];
export type Found = Schemas["Found"];
export type JoinCheck = Schemas["JoinCheck"];
export type Condition = Schemas["Condition"];
export type DeviceStranger = Schemas["DeviceStranger"];
export type Model = Schemas["Model"];
export type CatalogueOutcome = Schemas["CatalogueOutcome"];
export type CatalogueSource = Schemas["CatalogueSource"];
export type Problem = Schemas["Problem"];
export type Me = Schemas["Me"];

export const api = createClient<paths>({ baseUrl: "" });

/** What to tell a person about an error. */
export function say(problem: Problem | undefined): string {
  if (!problem) return "The service does not answer.";
  const detail = problem.detail ? `: ${problem.detail}` : ".";
  return `${problem.field ? `${problem.field}: ` : ""}${problem.title}${detail}`;
}
