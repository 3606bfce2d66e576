// The service, typed by its OpenAPI document.
import createClient from "openapi-fetch";
import type { components, paths } from "./generated/api";

type Schemas = components["schemas"];
export type Gateway = Schemas["Gateway"];
export type Stranger = Schemas["Stranger"];
export type GroundFile = Schemas["GroundFile"];
export type GroundKind = Schemas["GroundKind"];
export type Device = Schemas["Device"];
export type DeviceDetail = Schemas["DeviceDetail"];
export type OutboxItem = Schemas["OutboxItem"];
export type NewOutboxItem = Schemas["NewOutboxItem"];
export type NewRound = Schemas["NewRound"];
export type Round = Schemas["Round"];
export type OutboxPlace = Schemas["OutboxPlace"];
export type OutboxReadBack = Schemas["OutboxReadBack"];
export type TestPayload = Schemas["TestPayload"];
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
export type MovedDevice = Schemas["MovedDevice"];
export type DeviceChange = Schemas["DeviceChange"];
export type StoredProfile = Schemas["StoredProfile"];
export type ChangeEffect = Schemas["ChangeEffect"];
export type RadioSettings = Schemas["RadioSettings"];
export type Fleet = Schemas["Fleet"];
export type FleetChange = Schemas["ChangeFleet"];
export type Protocol = Schemas["Protocol"];
export type Watch = Schemas["Watch"];
export type Health = Schemas["Health"];
export type Found = Schemas["Found"];
export type JoinCheck = Schemas["JoinCheck"];
export type Condition = Schemas["Condition"];
export type DeviceStranger = Schemas["DeviceStranger"];
export type Model = Schemas["Model"];
export type CatalogueOutcome = Schemas["CatalogueOutcome"];
export type CatalogueSource = Schemas["CatalogueSource"];
export type Tried = Schemas["Tried"];
export type TriedUplink = Schemas["TriedUplink"];
export type Outcome = Schemas["Outcome"];
export type Edition = Schemas["Edition"];
export type Comparison = Schemas["Comparison"];
export type Job = Schemas["Job"];
export type ReadingRule = Schemas["ReadingRule"];
export type Doubt = Schemas["Doubt"];
export type DeviceReading = Schemas["DeviceReading"];
export type Chart = Schemas["Chart"];
export type ChartLine = Schemas["ChartLine"];
export type DecodeFailures = Schemas["DecodeFailures"];
export type RehearsalOutcome = Schemas["RehearsalOutcome"];
export type Problem = Schemas["Problem"];
export type Me = Schemas["Me"];
export type Estate = Schemas["Estate"];
export type Right = Schemas["Right"];
export type RightAbout = Schemas["RightAbout"];
export type Role = Schemas["Role"];
export type Scope = Schemas["Scope"];
export type ShareLevel = Schemas["ShareLevel"];
export type EstateMember = Schemas["EstateMember"];
export type Offer = Schemas["Offer"];
export type Invitation = Schemas["Invitation"];
export type OpenedInvitation = Schemas["OpenedInvitation"];
export type Share = Schemas["Share"];
export type AccessToken = Schemas["AccessToken"];
export type SignInRecord = Schemas["SignInRecord"];
export type TwoStepSecret = Schemas["TwoStepSecret"];
export type AuditEntry = Schemas["AuditEntry"];
export type AuditKind = Schemas["AuditKind"];
export type EstateOutline = Schemas["EstateOutline"];
export type Site = Schemas["Site"];
export type Receiver = Schemas["Receiver"];
export type Forecast = Schemas["Forecast"];
export type NewForecast = Schemas["NewForecast"];
export type ForecastLayer = Schemas["Layer"];
export type LayerLegend = Schemas["LayerLegend"];
export type PlaceForecast = Schemas["PlaceForecast"];
export type SiteLink = Schemas["Link"];
export type Amount = Schemas["Amount"];
export type SiteWorth = Schemas["SiteWorth"];
export type DeviceCoverage = Schemas["DeviceCoverage"];
export type DeviceLink = Schemas["DeviceLink"];
export type SurveySummary = Schemas["Survey"];
export type SurveyQuantity = Schemas["SurveyQuantity"];
export type SurveyPlace = Schemas["SurveyPlace"];
export type SurveyFilter = NonNullable<paths["/api/v1/estates/{estate}/survey"]["get"]["parameters"]["query"]>;
export type Outlet = Schemas["Outlet"];
export type MessageType = Schemas["MessageType"];
export type Delivery = Schemas["Delivery"];
export type Destination = Schemas["Destination"];
export type Shape = Schemas["Shape"];
export type NewOutlet = Schemas["NewOutlet"];
export type OutletChange = Schemas["ChangeOutlet"];
export type ColumnKind = Schemas["ColumnKind"];
export type Connecting = Schemas["Connecting"];
export type ConnectSnippet = Schemas["Snippet"];
export type TriedMessage = Schemas["TriedMessage"];
export type MadeRequest = Schemas["MadeRequest"];
export type GivenAnswer = Schemas["GivenAnswer"];
export type DriveTest = Schemas["SurveyImport"];
export type DriveTestEffect = Schemas["SurveyImportEffect"];

export const api = createClient<paths>({ baseUrl: "" });

/** What to tell a person about an error. */
export function say(problem: Problem | undefined): string {
  if (!problem?.title) return "The service does not answer.";
  const detail = problem.detail ? `: ${problem.detail}` : ".";
  return `${problem.field ? `${problem.field}: ` : ""}${problem.title}${detail}`;
}

/** The service refused a call, or did not answer. */
export class CallError extends Error {
  constructor(
    readonly problem: Problem | undefined,
    readonly status: number | undefined,
  ) {
    super(say(problem));
  }
}

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** What the service answers. Throws a `CallError` if it refuses or does not answer. */
export async function call<T>(asked: Promise<Answer<T>>): Promise<T> {
  let answer;
  try {
    answer = await asked;
  } catch {
    throw new CallError(undefined, undefined);
  }
  if (!answer.response.ok) throw new CallError(answer.error as Problem | undefined, answer.response.status);
  return answer.data as T;
}

/** What to tell a person about what was thrown. */
export function problemOf(error: unknown): string {
  if (error instanceof CallError) return error.message;
  throw error;
}

/** Every entry of a list, page by page. */
export async function every<T>(page: (query: { after?: string; limit: number }) => Promise<{ items: T[]; next?: string | null }>): Promise<T[]> {
  const found: T[] = [];
  for (let after: string | undefined; ;) {
    const { items, next } = await page({ after, limit: 500 });
    found.push(...items);
    if (!next) return found;
    after = next;
  }
}
