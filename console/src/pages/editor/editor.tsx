import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Badge, Button, Flex, Input, Modal, Segmented, Select, Tabs, Typography } from "antd";
import { lazy, Suspense, useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Link, useParams } from "react-router";
import { api, ApiProblem, take, type ContractFile, type Drafted, type Intent, type Revision } from "../../api/client";
import { useAddress } from "../../shared/address";
import { DiffText, DirectionMark, Sentences } from "../../shared/classes";
import { count } from "../../shared/format";
import { useRevisionMade } from "../../shared/revisions";
import { useMay } from "../../shared/session";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading } from "../../shared/states";
import { Code } from "../../shared/tags";
import { typedHash, useWorking, type Working } from "../../shared/working";
import { Leaving } from "./leaving";
import { AdviceTable } from "../contracts/contracts";
import { DraftPanel } from "./draft";
import { EffectPanel } from "./effect";
import { GrantsEditor } from "./grants";
import { keys } from "../../api/keys";

const TextEditor = lazy(() => import("./text"));

/** Edits a service's contracts: one endpoint by ticking, or the files as text. Both show the same thing. */
export default function EditorPage() {
  const { id, service: named } = useParams();
  const endpoint = useQuery({
    queryKey: keys.endpoint(id),
    queryFn: () => take(api.GET("/api/v1/endpoints/{endpoint_id}", { params: { path: { endpoint_id: id! } } })),
    enabled: id !== undefined,
  });
  if (id === undefined) return <Editor service={named ?? ""} />;
  if (endpoint.isPending) return <Loading what="the endpoint" />;
  if (endpoint.error) return <Failed error={endpoint.error} again={() => endpoint.refetch()} />;
  return <Editor service={endpoint.data.endpoint.service} endpoint={endpoint.data.endpoint.endpoint} id={id} />;
}

/** A value that follows another one after it has not changed for a while. */
function useRested<T>(value: T, ms: number): T {
  const [rested, setRested] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setRested(value), ms);
    return () => clearTimeout(timer);
  }, [value, ms]);
  return rested;
}

const pause = 350; // ms without a key stroke before the text is looked at

function Editor({ service, endpoint, id }: { service: string; endpoint?: string; id?: string }) {
  const { get, set } = useAddress();
  const may = useMay("reviewer", service);
  const { made, failed } = useRevisionMade();
  const [working, setWorking] = useWorking(service);
  const [theirs, setTheirs] = useState<{ revision: Revision; conflicts: { file: string; line: number }[] }>();
  const [drafted, setDrafted] = useState<Drafted>();
  const [discarded, setDiscarded] = useState<Working>();
  const inForce = useQuery({
    queryKey: keys.contracts(service),
    queryFn: () => take(api.GET("/api/v1/services/{service}/contracts", { params: { path: { service } } })),
  });
  const files = working?.files ?? inForce.data?.files;
  const base = working?.base ?? inForce.data?.number ?? 0;
  const hash = working?.hash ?? (inForce.data && `revision ${inForce.data.number}`);
  const now = useMemo(() => (files && hash ? { files, hash } : undefined), [files, hash]);
  const later = useRested(now, pause);
  // typed text is checked after a pause; the service has already checked what it wrote
  const rested = now?.hash.startsWith("typed ") ? later : now;
  const chosenEndpoint = get("endpoint") || endpoint; // a draft may write the endpoint otherwise than it was seen
  const client = useQueryClient();
  const trial = useQuery({
    queryKey: keys.trial(service, rested?.hash, chosenEndpoint),
    queryFn: () =>
      take(
        api.POST("/api/v1/services/{service}/contracts/trial", {
          params: { path: { service } },
          body: { files: rested!.files, base, endpoint: chosenEndpoint },
        }),
      ),
    enabled: rested !== undefined,
    placeholderData: keepPreviousData,
    staleTime: Infinity,
  });
  const changed = trial.data !== undefined && trial.data.text !== "";
  const [aside, setAside] = useState("words");
  const advice = useQuery({
    queryKey: keys.adviceOn(service, rested?.hash),
    queryFn: () =>
      take(
        api.POST("/api/v1/services/{service}/contracts/trial", {
          params: { path: { service } },
          body: { files: rested!.files, base, advise: true },
        }),
      ),
    enabled: rested !== undefined && aside === "advice",
    placeholderData: keepPreviousData,
    staleTime: Infinity,
  });

  const keep = useCallback(
    (next: ContractFile[]) => setWorking({ files: next, base, hash: typedHash() }),
    [setWorking, base],
  );
  const edit = useMutation({
    mutationFn: (intent: Intent) =>
      take(
        api.POST("/api/v1/services/{service}/contracts/trial", {
          params: { path: { service } },
          body: { files, base, intents: [intent], endpoint: chosenEndpoint },
        }),
      ),
    onSuccess: (t) => {
      client.setQueryData(keys.trial(service, t.hash, chosenEndpoint), t);
      setWorking({ files: t.files, base, hash: t.hash });
    },
    onError: failed,
  });
  const merge = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/services/{service}/contracts/merge", {
          params: { path: { service } },
          body: { base, files: files ?? [] },
        }),
      ),
    onSuccess: (m) => {
      setWorking({ files: m.files, base: m.theirs.number, hash: typedHash() });
      setTheirs({ revision: m.theirs, conflicts: m.conflicts });
    },
    onError: failed,
  });
  const [saving, setSaving] = useState(false);
  const [reason, setReason] = useState("");
  const save = useMutation({
    mutationFn: () =>
      take(
        api.PUT("/api/v1/services/{service}/contracts", {
          params: { path: { service } },
          body: { files: files ?? [], base, reason: reason || undefined },
        }),
      ),
    onSuccess: (r) => {
      setWorking(undefined);
      setTheirs(undefined);
      setDrafted(undefined);
      setSaving(false);
      setReason("");
      made(r);
    },
    onError: (e) => {
      setSaving(false);
      if (e instanceof ApiProblem && e.status === 409) merge.mutate();
      else failed(e);
    },
  });

  const takeDraft = (d: Drafted) => {
    keep(d.files);
    setDrafted(d);
    set({ endpoint: d.endpoints[0] ?? "", draft: "" });
  };
  const problems = useMemo(() => trial.data?.problems ?? [], [trial.data]);
  const place = useRef<{ file?: string; line?: number }>({}); // of the endpoint, also while the text has problems
  if (trial.data?.contract?.file) place.current = { file: trial.data.contract.file, line: trial.data.contract.line };
  if (inForce.isPending) return <Loading what="the contracts" />;
  if (inForce.error) return <Failed error={inForce.error} again={() => inForce.refetch()} />;
  const contract = trial.data?.contract;
  const known = contract?.pointer !== undefined;
  const as = get("as") === "text" || (!chosenEndpoint && !get("draft")) ? "text" : "grants";
  const outdated = working !== undefined && working.base !== inForce.data.number;
  return (
    <>
      <Heading
        title={`Edit ${chosenEndpoint ?? service}`}
        aside={
          <Flex gap={8} align="center" wrap>
            {changed && trial.data && <DirectionMark value={trial.data.direction} reaches={trial.data.reaches} />}
            {changed && (
              <Button
                onClick={() => {
                  setDiscarded(working);
                  setWorking(undefined);
                  setDrafted(undefined);
                  setTheirs(undefined);
                }}
              >
                Discard
              </Button>
            )}
            {may && (
              <Button
                type="primary"
                disabled={!changed || problems.length > 0 || merge.isPending}
                onClick={() => setSaving(true)}
              >
                {trial.data?.needs_approval ? "Put up for approval" : "Save"}
              </Button>
            )}
          </Flex>
        }
      >
        {chosenEndpoint ? (
          <>
            <span className="faint">edit</span>{" "}
            {id ? (
              <Link to={`/endpoints/${id}`}>
                <Code>{chosenEndpoint}</Code>
              </Link>
            ) : (
              <Code>{chosenEndpoint}</Code>
            )}
          </>
        ) : (
          <>
            <span className="faint">edit</span>{" "}
            <Link to={`/contracts?service=${encodeURIComponent(service)}`}>{service}</Link>
          </>
        )}
      </Heading>
      <Leaving service={service} changed={changed} />
      {discarded && !working && (
        <Alert
          type="info"
          showIcon
          className="below-12"
          closable={{ onClose: () => setDiscarded(undefined) }}
          title="The changes are discarded."
          action={
            <Button
              size="small"
              onClick={() => {
                setWorking(discarded);
                setDiscarded(undefined);
              }}
            >
              Bring them back
            </Button>
          }
        />
      )}
      {!may && (
        <Alert
          type="info"
          showIcon
          title="You can try changes out here; to save them needs the role reviewer."
          className="below-12"
        />
      )}
      {(outdated || theirs) && (
        <Alert
          type="warning"
          showIcon
          className="below-12"
          title={
            theirs
              ? `${theirs.revision.author} changed the contracts meanwhile; both changes are brought together below.`
              : `Revision ${inForce.data.number}, by ${inForce.data.author}, came into force while you were changing revision ${base}.`
          }
          description={
            theirs ? (
              <>
                <Sentences all={theirs.revision.words} most={6} />
                {theirs.conflicts.length > 0 ? (
                  <>
                    You both changed the same {theirs.conflicts.length === 1 ? "place" : "places"}; your lines were
                    kept. Look at{" "}
                    {theirs.conflicts.map((c) => (
                      <Button
                        key={`${c.file}:${c.line}`}
                        type="link"
                        size="small"
                        onClick={() => set({ as: "text", file: c.file, line: String(c.line) })}
                      >
                        {c.file}:{c.line}
                      </Button>
                    ))}
                  </>
                ) : (
                  "Nothing was changed by both. Look it over, then save."
                )}
              </>
            ) : (
              <Button loading={merge.isPending} onClick={() => merge.mutate()}>
                Bring both together
              </Button>
            )
          }
        />
      )}
      {drafted && (
        <Alert
          type="info"
          showIcon
          closable={{ onClose: () => setDrafted(undefined) }}

          title={`Drafted ${drafted.endpoints.join(", ")}. ${drafted.questions.length ? "To decide:" : "Nothing is left to decide."}`}
          description={
            <ul className="plain below-12">
              {drafted.questions.map((q, i) => (
                <li key={i}>
                  <Code>{[q.entity, q.field].filter(Boolean).join(".")}</Code> {q.text}
                </li>
              ))}
              {drafted.notes.map((n) => (
                <li key={n}>{n}</li>
              ))}
            </ul>
          }
        />
      )}
      {problems.length > 0 && (
        <Alert
          type="error"
          showIcon

          title={`${count(problems.length, "problem")}: the contract cannot be used so`}
          description={
            <ul className="plain below-12">
              {problems.slice(0, 8).map((p) => (
                <li key={`${p.file}${p.line}${p.column}${p.found}`}>
                  <Button
                    type="link"
                    size="small"
                    onClick={() => set({ as: "text", file: p.file, line: String(p.line) })}
                  >
                    {p.file}:{p.line}:{p.column}
                  </Button>{" "}
                  {p.found}; expected {p.expected}
                  {p.near && <>; did you mean “{p.near}”?</>}
                </li>
              ))}
              {problems.length > 8 && <li>and {problems.length - 8} more</li>}
            </ul>
          }
        />
      )}
      <div className={as === "grants" ? "split editor" : "split editor text"}>
        <section className="sheet" aria-label="Contract">
          <Flex justify="space-between" align="center" gap={8} wrap className="below-8">
            {endpoint === undefined && contract ? (
              <Select
                showSearch
                aria-label="Endpoint to edit"
                placeholder="Edit one endpoint by ticking"
                className="least-300 most-full"
                value={chosenEndpoint}
                onChange={(v) => set({ endpoint: v, as: "grants" })}
                options={endpointsIn(files ?? []).map((e) => ({ value: e, label: e }))}
              />
            ) : (
              <span />
            )}
            <Segmented
              size="small"
              value={as}
              onChange={(v) => set({ as: v === "text" ? "text" : "grants", line: "" })}
              options={[
                { value: "grants", label: "Grants", disabled: !chosenEndpoint },
                { value: "text", label: "Text" },
              ]}
            />
          </Flex>
          {as === "text" && files && (
            <Suspense fallback={<Loading what="the editor" />}>
              <TextEditor
                files={files}
                onChange={keep}
                problems={problems}
                contract={contract}
                file={get("file") || place.current.file || problems[0]?.file}
                line={Number(get("line")) || undefined}
                begin={place.current.line ?? problems[0]?.line}
                onFile={(f) => set({ file: f, line: "" })}
                readOnly={edit.isPending}
              />
            </Suspense>
          )}
          {as === "grants" && trial.isPending && <Loading what="the contract" />}
          {as === "grants" && trial.error && <Failed error={trial.error} again={() => trial.refetch()} />}
          {as === "grants" && trial.data && !contract && (
            <Empty title="The text has problems">Mend them in the text first; the grants are shown again then.</Empty>
          )}
          {as === "grants" && contract && !known && chosenEndpoint && (
            <DraftPanel
              service={service}
              endpoint={chosenEndpoint}
              files={files ?? []}
              contract={contract}
              onDraft={takeDraft}
              begin={get("draft")}
            />
          )}
          {as === "grants" && contract && known && (
            <GrantsEditor
              contract={contract}
              busy={edit.isPending || trial.isFetching || rested !== now}
              onEdit={(intent) => edit.mutate(intent)}
            />
          )}
        </section>
        <section className="sheet" aria-label="What it comes to">
          <Tabs
            size="small"
            activeKey={aside}
            onChange={setAside}
            items={[
              {
                key: "words",
                label: "What changes",
                children:
                  trial.data &&
                  (changed ? (
                    <Sentences all={trial.data.words} />
                  ) : (
                    <Typography.Text type="secondary">Nothing is changed yet.</Typography.Text>
                  )),
              },
              {
                key: "effect",
                label: "Effect on recorded traffic",
                children: (
                  <EffectPanel
                    service={service}
                    files={rested?.files}
                    hash={rested?.hash}
                    base={base}
                    changed={changed}
                    broken={problems.length > 0}
                  />
                ),
              },
              {
                key: "advice",
                label: (
                  <span>
                    Advice <Badge size="small" color="#80620a" count={advice.data?.advice.length ?? 0} />
                  </span>
                ),
                children: (
                  <AdviceTable
                    all={advice.data?.advice.filter(
                      (a) => !chosenEndpoint || !a.endpoint || a.endpoint === chosenEndpoint,
                    )}
                    loading={advice.isPending}
                    service={service}
                  />
                ),
              },
              { key: "text", label: "As text", children: <DiffText text={trial.data?.text ?? ""} /> },
            ]}
          />
        </section>
      </div>
      {saving && (
        <Modal
          title={trial.data?.needs_approval ? "Put up for approval" : `Save as a revision after ${base}`}
          open
          onCancel={() => setSaving(false)}
          onOk={() => save.mutate()}
          okText={trial.data?.needs_approval ? "Put up for approval" : "Save"}
          okButtonProps={{ loading: save.isPending }}
          width={640}
        >
          {trial.data?.needs_approval && (
            <Alert
              type="warning"
              showIcon
              title={`This exposes more ${trial.data.reaches} data. It takes effect when somebody else approves it.`}
              className="below-12"
            />
          )}
          {trial.data && <Sentences all={trial.data.words} most={10} />}
          <label className="display-block above-12px">
            Why, for whoever reads the revisions
            <Input
              autoFocus
              value={reason}
              onChange={(e) => setReason(e.target.value)}
              onPressEnter={() => save.mutate()}
            />
          </label>
        </Modal>
      )}
    </>
  );
}

/** The endpoints that contract files write down, as they stand there. */
function endpointsIn(files: ContractFile[]): string[] {
  return files
    .flatMap((f) =>
      [...f.text.matchAll(/^\s*-\s+endpoint:\s*["']?([A-Z]+ \/[^"'\n#]*?)["']?\s*(?:#.*)?$/gm)].map((m) =>
        m[1]!.trim(),
      ),
    )
    .sort((a, b) => a.slice(a.indexOf(" ")).localeCompare(b.slice(b.indexOf(" "))));
}
