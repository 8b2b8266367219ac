import type { InvalidateQueryFilters, QueryClient } from "@tanstack/react-query";

/** Query keys: what an answer is about, and its parameters. */
export const keys = {
  adviceOn: (service: string, hash?: string) => ["adviceOn", service, hash] as const,
  alike: (service: string) => ["alike", service] as const,
  advice: (service: string) => ["advice", service] as const,
  batch: (id: unknown) => ["batch", id] as const,
  batches: (page: unknown) => ["batches", page] as const,
  capture: (id: unknown) => ["capture", id] as const,
  captures: (query: unknown) => ["captures", query] as const,
  comparison: (before: unknown, after: unknown) => ["comparison", before, after] as const,
  contracts: (service: string) => ["contracts", service] as const,
  coverage: (service: string) => ["coverage", service] as const,
  credentials: (service: string) => ["credentials", service] as const,
  deliveries: (hook: unknown, ...page: unknown[]) => ["deliveries", hook, ...page] as const,
  draft: (id: unknown) => ["draft", id] as const,
  drafts: () => ["drafts"] as const,
  due: () => ["due"] as const,
  effect: (service: string, hash?: string) => ["effect", service, hash] as const,
  endpoint: (id: unknown) => ["endpoint", id] as const,
  endpoints: (query: unknown) => ["endpoints", query] as const,
  entities: (service: string) => ["entities", service] as const,
  export: (service: string, form: unknown) => ["export", service, form] as const,
  exposure: (service: string, query: unknown) => ["exposure", service, query] as const,
  factor: () => ["factor"] as const,
  fieldNames: (service: string, entity: unknown) => ["fieldNames", service, entity] as const,
  fields: (service: string, query: unknown) => ["fields", service, query] as const,
  finding: (id: unknown) => ["finding", id] as const,
  findings: (...query: unknown[]) => ["findings", ...query] as const,
  flows: (service: string, entity: unknown, field: unknown) => ["flows", service, entity, field] as const,
  groups: (by: unknown, filter: unknown) => ["groups", by, filter] as const,
  home: () => ["home"] as const,
  hooks: () => ["hooks"] as const,
  keeping: (service: string) => ["keeping", service] as const,
  kinds: () => ["kinds"] as const,
  knownEndpoints: (service: string) => ["knownEndpoints", service] as const,
  labels: () => ["labels"] as const,
  link: () => ["link"] as const,
  mailing: () => ["mailing"] as const,
  matrix: (of: unknown) => ["matrix", of] as const,
  mails: (...page: unknown[]) => ["mails", ...page] as const,
  notices: (...query: unknown[]) => ["notices", ...query] as const,
  people: () => ["people"] as const,
  request: (id: unknown) => ["request", id] as const,
  requests: (...query: unknown[]) => ["requests", ...query] as const,
  result: (id: unknown) => ["result", id] as const,
  results: (...query: unknown[]) => ["results", ...query] as const,
  revision: (service: string, number: unknown) => ["revision", service, number] as const,
  revisions: (query: unknown) => ["revisions", query] as const,
  servers: (service: string) => ["servers", service] as const,
  services: () => ["services"] as const,
  session: () => ["session"] as const,
  sessions: () => ["sessions"] as const,
  shapes: (service: string) => ["shapes", service] as const,
  standing: (service: unknown, team: unknown, days: unknown) => ["standing", service, team, days] as const,
  tokens: () => ["tokens"] as const,
  trail: (query: unknown) => ["trail", query] as const,
  trial: (service: string, hash?: string, endpoint?: string) => ["trial", service, hash, endpoint] as const,
  unread: () => ["unread"] as const,
  views: () => ["views"] as const,
  watch: (id: unknown) => ["watch", id] as const,
  watchable: (service: string) => ["watchable", service] as const,
  watches: (service: string) => ["watches", service] as const,
  ways: () => ["ways"] as const,
  withdrawal: (batch: unknown) => ["withdrawal", batch] as const,
};

type About = keyof typeof keys;

/** What shows findings. */
const findings: About[] = [
  "finding",
  "findings",
  "groups",
  "home",
  "labels",
  "standing",
  "notices",
  "unread",
  "endpoints",
  "endpoint",
  "entities",
  "fields",
  "flows",
  "exposure",
  "capture",
  "captures",
  "requests",
  "request",
  "services",
  "trail",
];

/** What shows captures, or what contracts and captures have to do with each other. */
const judged: About[] = [
  "alike",
  "batches",
  "batch",
  "withdrawal",
  "coverage",
  "advice",
  "adviceOn",
  "effect",
  "knownEndpoints",
  "shapes",
];

/** What becomes stale with each kind of change. */
const changedBy = {
  /** Somebody moves, assigns, labels or discusses findings. */
  findings,
  /** Recordings come in, go, or are judged anew; the findings they show come and go with them. */
  captures: ["comparison", ...judged, ...findings],
  /** Contracts come into force, or wait for approval; recorded captures are judged by them. */
  contracts: ["drafts", "contracts", "revision", "revisions", "export", "fieldNames", "trial", ...judged, ...findings],
  /** Watches are made, changed, run or removed. */
  watches: ["watch", "watches", "home"],
  /** Settings of a service, or of all. */
  settings: [
    "servers",
    "credentials",
    "keeping",
    "due",
    "services",
    "home",
    "findings",
    "finding",
    "groups",
    "captures",
    "capture",
    "trail",
    "results",
    "result",
  ],
} satisfies Record<string, About[]>;

/** Marks as stale what a change affects. */
export function changed(
  queries: QueryClient,
  what: keyof typeof changedBy,
  options?: Pick<InvalidateQueryFilters, "refetchType">,
) {
  const about = new Set<unknown>(changedBy[what]);
  return queries.invalidateQueries({ ...options, predicate: (q) => about.has(q.queryKey[0]) });
}
