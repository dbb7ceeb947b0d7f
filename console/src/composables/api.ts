// The network interface, with the types of its OpenAPI document.
import type { components } from "../generated/api";

type Schemas = components["schemas"];
export type Status = Schemas["Status"];
export type Concern = Schemas["Concern"];
export type Collector = Schemas["CollectorStatus"];
export type Completeness = Schemas["Completeness"];
export type Coverage = Schemas["Coverage"];
export type Gap = Schemas["Gap"];
export type Action = Schemas["Action"];
export type Actions = Schemas["Actions"];
export type Hole = Schemas["Hole"];
export type Run = Schemas["Run"];
export type Fetch = Schemas["Fetch"];
export type Series = Schemas["Series"];
export type Instrument = Schemas["Instrument"];
export type Source = Schemas["SourceStatus"];
export type ListStatus = Schemas["ListStatus"];
export type ListChange = Schemas["ListChange"];
export type Tried = Schemas["Tried"];
export type Quarantined = Schemas["Quarantined"];
export type BarVersion = Schemas["BarVersion"];
export type Finding = Schemas["Finding"];
export type Restatement = Schemas["Restatement"];
export type Compared = Schemas["Compared"];
export type Lineup = Schemas["Lineup"];
export type Explanation = Schemas["Explanation"];
export type AcceptedConfiguration = Schemas["AcceptedConfiguration"];
export type FileChange = Schemas["FileChange"];
export type Chain = Schemas["Chain"];
export type ChainTold = Schemas["ChainTold"];
export type Edition = Schemas["Edition"];
export type EditionSpec = Schemas["EditionSpec"];
export type EditionTold = Schemas["EditionTold"];
export type EditionDifference = Schemas["EditionDifference"];
export type EditionVerdict = Schemas["EditionVerdict"];
export type Universe = Schemas["Universe"];
export type UniverseTold = Schemas["UniverseTold"];
export type Membership = Schemas["Membership"];
export type SavedQuestion = Schemas["SavedQuestion"];
export type Excuse = Schemas["Excuse"];
export type Event = Schemas["Event"];
type Problem = Schemas["Problem"];

/** A bar as `/bars` sends it: `time` for intraday, `date` for daily. */
export interface Bar {
  time?: string;
  date?: string;
  open: number;
  high: number;
  low: number;
  close: number;
  volume: number | null;
  /** In golden series: whose bar it is. */
  source?: string;
}

async function answered(path: string, init?: RequestInit): Promise<Response> {
  let response: Response;
  try {
    response = await fetch(`/api/v1${path}`, init);
  } catch {
    throw new Error("the service does not answer; is it running?");
  }
  if (!response.ok) {
    const problem = (await response.json().catch(() => null)) as Problem | null;
    throw new Error(problem?.detail ?? `the service answered ${response.status}`);
  }
  return response;
}

async function ask<T>(path: string, init?: RequestInit): Promise<T> {
  const response = await answered(path, init);
  return response.status === 204 ? (undefined as T) : ((await response.json()) as T);
}

type Query = Record<string, string | number | undefined>;

/** A path with query parameters; those that are undefined are left out. */
export function address(path: string, query: Query): string {
  const given = Object.entries(query).filter(([, value]) => value !== undefined && value !== "");
  const text = new URLSearchParams(given.map(([name, value]) => [name, String(value)])).toString();
  return text ? `${path}?${text}` : path;
}

/** Reads, with query parameters. */
export function get<T>(path: string, query: Query = {}): Promise<T> {
  return ask(address(path, query));
}

/** Reads a text. */
export async function getText(path: string): Promise<string> {
  return (await answered(path)).text();
}

/** Rows of bars, and the interval that they have: a coarser one where more would not fit. */
export async function getRows<T>(query: Query): Promise<{ rows: T[]; interval: string }> {
  const response = await answered(address("/bars", { format: "json", ...query }));
  return { rows: (await response.json()) as T[], interval: response.headers.get("Mizuno-Interval") ?? "" };
}

/** The first lines of a file, which is not read further. */
export async function firstLines(path: string, most: number): Promise<string[]> {
  const reader = (await answered(path.replace(/^\/api\/v1/, ""))).body?.pipeThrough(new TextDecoderStream()).getReader();
  let text = "";
  while (reader && text.split("\n").length <= most) {
    const { done, value } = await reader.read();
    if (done) break;
    text += value;
  }
  await reader?.cancel();
  return text.split(/\r?\n/).filter(Boolean).slice(0, most);
}

export function remove(path: string): Promise<void> {
  return ask(path, { method: "DELETE" });
}

export function put<T>(path: string, body: unknown): Promise<T> {
  return ask(path, { method: "PUT", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body) });
}

export function post<T>(path: string, body: unknown): Promise<T> {
  return ask(path, { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(body) });
}
