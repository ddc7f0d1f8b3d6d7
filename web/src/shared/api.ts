import type { components } from "../generated/api";

type Schemas = components["schemas"];
export type TakeInfo = Schemas["TakeInfo"];
export type Strand = Schemas["Strand"];
export type Member = Schemas["MemberInfo"];
export type Shape = Schemas["ShapeInfo"];
export type SceneEntry = Schemas["SceneEntry"];
export type Operation = Schemas["OperationInfo"];
export type Choice = Schemas["Choice"];
export type Tried = Schemas["Tried"];
export type Chart = Schemas["ChartInfo"];
export type Step = Schemas["StepInfo"];
export type Applied = Schemas["Applied"];
export type Card = Schemas["Card"];
export type MeterData = Schemas["Meter"];
export type Revision = Schemas["RevisionInfo"];
export type PoseStrip = Schemas["PoseStrip"];
export type OperationAsked = Schemas["OperationAsked"];
export type DragAsked = Schemas["DragAsked"];
export type Job = Schemas["JobInfo"];
export type LayerInfo = Schemas["LayerInfo"];
export type FitInfo = Schemas["FitInfo"];
export type FitPart = Schemas["FitPart"];
export type Setting = Schemas["SettingInfo"];
export type LimbSaid = Schemas["LimbSaid"];
export type Finding = Schemas["FindingInfo"];
export type KeyPut = Schemas["KeyPut"];
export type KeyEdit = Pick<Schemas["KeyEdit"], "what"> & Partial<Schemas["KeyEdit"]>;
export type ClipInfo = Schemas["ClipInfo"];
export type CurveInfo = Schemas["CurveInfo"];
export type CurveKey = Schemas["CurveKey"];
export type Compared = Schemas["Compared"];
export type Contact = Schemas["ContactInfo"];
export type Plank = Schemas["Plank"];
export type TransferInfo = Schemas["TransferInfo"];
export type HandleInfo = Schemas["HandleInfo"];
export type FormatInfo = Schemas["FormatInfo"];
export type Suggested = Schemas["Suggested"];
/** The proof as the core measured it: metres, radians, and both per frame. */
export type Proof = Schemas["Proof"];

export class Problem extends Error {
  constructor(
    message: string,
    readonly status: number,
    readonly head: number | null = null,
    readonly line: number | null = null,
  ) {
    super(message);
  }
}

/** Told when the service or its database stops answering, and when it asks for its key. */
export const away = { tell: () => {} };
export const locked = { tell: () => {} };

export async function answer(path: string, init?: RequestInit): Promise<Response> {
  let response: Response;
  try {
    response = await fetch(`/api${path}`, init);
  } catch (error) {
    if (error instanceof DOMException && error.name === "AbortError") throw error;
    away.tell();
    throw new Problem("The service does not answer. What was applied is safe; this page goes on when it is back.", 0);
  }
  if (response.ok) return response;
  if (response.status === 503) away.tell();
  if (response.status === 401) locked.tell();
  let body: Partial<Schemas["Problem"]> = {};
  try {
    body = (await response.json()) as Schemas["Problem"];
  } catch {
    // Not every failure on the way speaks JSON; the status says enough then.
  }
  throw new Problem(body.message ?? `The service answered ${response.status}.`, response.status, body.head ?? null, body.line ?? null);
}

export async function get<T>(path: string, signal?: AbortSignal): Promise<T> {
  return (await (await answer(path, signal ? { signal } : undefined)).json()) as T;
}

export async function post<T>(path: string, body: unknown, headers: Record<string, string> = {}, signal?: AbortSignal): Promise<T> {
  const response = await answer(path, {
    ...(signal ? { signal } : {}),
    method: "POST",
    headers: { "Content-Type": "application/json", ...headers },
    body: JSON.stringify(body),
  });
  return (response.status === 204 ? undefined : await response.json()) as T;
}

/** Milliseconds after which an edit without an answer is sent again. */
const AGAIN = [500, 1000, 2000, 4000, 8000];

/** Writes an edit, once, however often it has to be sent: where no answer comes it goes again under the same key. */
export async function postOnce<T>(path: string, body: unknown): Promise<T> {
  const key = { "Idempotency-Key": crypto.randomUUID() };
  for (const wait of AGAIN) {
    try {
      return await post<T>(path, body, key);
    } catch (error) {
      if (!(error instanceof Problem) || (error.status !== 0 && error.status !== 503)) throw error;
      await new Promise((later) => setTimeout(later, wait));
    }
  }
  return post<T>(path, body, key);
}

/** Where a character's body is to be had. */
export const bodyAt = (take: number, member: string) => `/takes/${take}/body.glb?member=${encodeURIComponent(member)}`;

export async function remove(path: string): Promise<void> {
  await answer(path, { method: "DELETE" });
}

export const removeScene = (id: number) => remove(`/scenes/${id}`);
