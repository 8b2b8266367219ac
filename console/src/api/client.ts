import createClient from "openapi-fetch";
import type { components, paths } from "./schema.gen";

type Schemas = components["schemas"];
export type Advice = Schemas["Advice"];
export type Batch = Schemas["Batch"];
export type CalledServer = Schemas["CalledServer"];
export type Capture = Schemas["Capture"];
export type CaptureDetail = Schemas["CaptureDetail"];
export type ClassOrNone = Schemas["ClassOrNone"];
export type ContractFile = Schemas["ContractFile"];
export type CoverageGap = Schemas["CoverageGap"];
export type Drafted = Schemas["Drafted"];
export type DraftAnswers = Schemas["DraftAnswers"];
export type DraftField = Schemas["DraftField"];
export type DraftQuestion = Schemas["DraftQuestion"];
export type FirstDraft = Schemas["FirstDraft"];
export type FirstDraftLine = Schemas["FirstDraftLine"];
export type EditableContract = Schemas["EditableContract"];
export type Endpoint = Schemas["Endpoint"];
export type Entity = Schemas["Entity"];
export type ExposureMap = Schemas["ExposureMap"];
export type Field = Schemas["Field"];
export type Finding = Schemas["Finding"];
/** The parameters of a list of findings. */
export type FindingsAsked = NonNullable<paths["/api/v1/findings"]["get"]["parameters"]["query"]>;
export type ExposureRequest = Schemas["ExposureRequest"];
export type FindingsChange = Schemas["FindingsChange"];
export type FindingsChanged = Schemas["FindingsChanged"];
export type Mailed = Schemas["Mailed"];
export type SentMail = Schemas["SentMail"];
export type Watch = Schemas["Watch"];
export type WatchCall = Schemas["WatchCall"];
export type WatchDetail = Schemas["WatchDetail"];
export type WatchRun = Schemas["WatchRun"];
export type WatchableCall = Schemas["WatchableCall"];
export type Matrix = Schemas["Matrix"];
export type MatrixCaller = Schemas["MatrixCaller"];
export type MatrixRow = Schemas["MatrixRow"];
export type Notice = Schemas["Notice"];
export type SavedView = Schemas["SavedView"];
export type FindingGroup = Schemas["FindingGroup"];
export type FindingDetail = Schemas["FindingDetail"];
export type GrantNode = Schemas["GrantNode"];
export type CheckedFinding = Schemas["CheckedFinding"];
export type PipelineResult = Schemas["PipelineResult"];
export type Delivery = Schemas["Delivery"];
export type Hook = Schemas["Hook"];
export type KeptCredentials = Schemas["KeptCredentials"];
export type LiveCall = Schemas["LiveCall"];
export type NewResponse = Schemas["NewResponse"];
export type Intent = Schemas["Intent"];
export type Person = Schemas["Person"];
export type Problem = Schemas["Problem"];
export type Reading = Schemas["Reading"];
export type ReadingResult = Schemas["ReadingResult"];
export type ResponseContract = Schemas["ResponseContract"];
export type Revision = Schemas["Revision"];
export type Sentence = Schemas["Sentence"];
export type Service = Schemas["Service"];
export type Severity = Schemas["Severity"];
export type Session = Schemas["Session"];
export type ShapeProposal = Schemas["ShapeProposal"];
export type Scope = Schemas["Scope"];
export type State = Schemas["State"];
export type Token = Schemas["Token"];
export type TrailEntry = Schemas["TrailEntry"];
export type Trial = Schemas["Trial"];
export type WireNode = Schemas["WireNode"];

export const api = createClient<paths>({ baseUrl: "/" });

/** Why a page has to ask for another sign-in. */
export type SignedOut = "ended" | "other-person";

/** Asks for another sign-in; settles when somebody signed in, or refused. */
let signIn: ((why: SignedOut) => Promise<boolean>) | undefined;
/** Continues when the same person signed in again in another tab. */
let back: (() => void) | undefined;

/** Sets who asks for another sign-in when the session has ended; null when nobody was signed in. */
export function whenSignedOut(ask: ((why: SignedOut) => Promise<boolean>) | undefined, goOn?: () => void) {
  signIn = ask;
  back = goOn;
}

/** The person that this page acts for. Every request says so: a browser has one session for all its tabs. */
let actingFor: number | undefined;
const actingForHeader = "Inkret-Acting-For";

// Tabs of one browser tell each other who signed in or out.
const tabs = typeof BroadcastChannel === "undefined" ? undefined : new BroadcastChannel("inkret-session");
tabs?.addEventListener("message", (e: MessageEvent<{ person?: number }>) => {
  if (actingFor === undefined) return;
  if (e.data.person === actingFor) back?.();
  else void signIn?.(e.data.person === undefined ? "ended" : "other-person");
});

/** Makes the page act for a person, or for nobody; other tabs hear of it where `tell` says so. */
export function actFor(person: number | undefined, tell = false) {
  actingFor = person;
  if (tell) tabs?.postMessage({ person });
}

/** The query of an address that is opened without headers: the person that the page acts for. */
export function actingForQuery(): Record<string, string> {
  return actingFor === undefined ? {} : { acting_for: String(actingFor) };
}

// What was sent when the session had ended is sent again after signing in anew, so that nothing typed is lost.
const copies = new WeakMap<Request, Request>();
api.use({
  onRequest({ request }) {
    if (actingFor !== undefined) request.headers.set(actingForHeader, String(actingFor));
    copies.set(request, request.clone());
  },
  async onResponse({ request, response }) {
    if (response.status !== 401 || !signIn) return undefined;
    const body = (await response
      .clone()
      .json()
      .catch(() => undefined)) as Partial<Problem> | undefined;
    const again = copies.get(request);
    const why = (
      { "urn:inkret:problem:signed-out": "ended", "urn:inkret:problem:other-person": "other-person" } as const
    )[body?.type as string];
    if (!why || !again || !(await signIn(why))) return undefined;
    return fetch(again);
  },
});

/** An error that the service stated (RFC 9457). */
export class ApiProblem extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly next?: string,
    readonly type?: string,
  ) {
    super(detail);
  }
}

export function problemOf(status: number, body: unknown): ApiProblem {
  const p = (typeof body === "object" && body !== null ? body : {}) as Partial<Problem>;
  return new ApiProblem(status, p.detail ?? p.title ?? `the service answered ${status}`, p.next, p.type);
}

/** The data of an answer, or its problem thrown. */
export async function take<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await answer;
  if (error !== undefined || !response.ok) throw problemOf(response.status, error);
  return data as T;
}

/** Sends a recording and tells how much of it has gone; fetch cannot. */
export function upload(
  service: string,
  said: { audience?: string; audiences?: string; request?: string },
  file: File,
  onProgress: (share: number) => void,
): Promise<Batch> {
  const query = new URLSearchParams({
    name: file.name,
    ...Object.fromEntries(Object.entries(said).filter(([, v]) => v)),
  });
  return sending(`/api/v1/services/${encodeURIComponent(service)}/batches?${query}`, file, onProgress);
}

/** Drafts the first contracts of a service from files, from another service, or from nothing. */
export function beginDraft(
  said: { service?: string; like?: string },
  files: File[],
  onProgress: (share: number) => void,
): Promise<FirstDraft> {
  const form = new FormData();
  for (const f of files) form.append("file", f, f.name);
  const query = new URLSearchParams(Object.entries(said).filter(([, v]) => v) as [string, string][]);
  return sending(`/api/v1/drafts?${query}`, form, onProgress);
}

function sending<T>(to: string, what: File | FormData, onProgress: (share: number) => void): Promise<T> {
  return new Promise((resolve, reject) => {
    const request = new XMLHttpRequest();
    request.open("POST", to);
    if (what instanceof File) request.setRequestHeader("Content-Type", "application/octet-stream");
    if (actingFor !== undefined) request.setRequestHeader(actingForHeader, String(actingFor));
    request.upload.onprogress = (e) => onProgress(e.total ? e.loaded / e.total : 0);
    request.onerror = () =>
      reject(new ApiProblem(0, "the service cannot be reached", "try again; nothing of the recording was kept"));
    request.onload = () => {
      let body: unknown;
      try {
        body = JSON.parse(request.responseText);
      } catch {
        body = undefined;
      }
      if (request.status === 200) resolve(body as T);
      else reject(problemOf(request.status, body));
    };
    request.send(what);
  });
}
