/** The one way to the server. Types come from the OpenAPI document; errors are problem+json. */
import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export const http = createClient<paths>({ baseUrl: "/" });
export type Schemas = components["schemas"];
export type Project = Schemas["ProjectOut"];
export type Station = Schemas["StationOut"];
export type Edit = Schemas["EditOut"];
export type Link = Schemas["LinkOut"];
export type Network = Schemas["NetworkOut"];
export type Job = Schemas["JobOut"];
export type Sighting = Schemas["SightingOut"];
export type Control = Schemas["ControlOut"];
export type Section = Schemas["SectionOut"];
export type Trace = Schemas["TraceOut"];
export type Group = Schemas["GroupOut"];
export type Box = Schemas["BoxOut"];
export type Question = Schemas["QuestionOut"];
export type Acceptance = Schemas["AcceptanceOut"];
export type Picture = Schemas["PictureOut"];
export type Search = Schemas["SearchOut"];
export type Note = Schemas["NoteOut"];
export type SavedView = Schemas["ViewOut"];
export type Status = Link["status"];

/** What the server said was wrong: a sentence and what to do. */
export class Refusal extends Error {
  constructor(
    readonly code: string,
    message: string,
    readonly remedy: string,
    readonly status: number,
    readonly subject = "",
  ) {
    super(message);
  }
}

export function refusal(body: unknown, status: number): Refusal {
  const p = (body ?? {}) as Partial<Schemas["Problem"]>;
  return new Refusal(
    p.code ?? "unreachable",
    p.detail ?? "the server does not answer",
    p.remedy ?? "check that it runs and try again",
    status,
    p.subject ?? "",
  );
}

/** The data of a response, or a thrown Refusal. */
export async function sent<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let result: { data?: T; error?: unknown; response: Response };
  try {
    result = await call;
  } catch {
    throw refusal(null, 0);
  }
  if (result.error !== undefined || result.data === undefined) throw refusal(result.error, result.response.status);
  return result.data;
}

/** Send a file as it is; the answer's data, or a thrown Refusal. */
export async function posted<T>(url: string, body: Blob): Promise<T> {
  const response = await fetch(url, { method: "POST", body }).catch(() => {
    throw refusal(null, 0);
  });
  const said: unknown = await response.json().catch(() => null);
  if (!response.ok) throw refusal(said, response.status);
  return said as T;
}

/** Raw bytes, for tiles, marks and slabs. */
export async function bytes(url: string, signal?: AbortSignal): Promise<ArrayBuffer> {
  const response = await fetch(url, { signal }).catch((e: unknown) => {
    if (signal?.aborted) throw e;
    throw refusal(null, 0);
  });
  if (!response.ok) throw refusal(await response.json().catch(() => null), response.status);
  return response.arrayBuffer();
}
