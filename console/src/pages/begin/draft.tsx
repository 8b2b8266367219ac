import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Flex, Input, Radio, Select, Steps, Table, Tag, Typography } from "antd";
import { useState } from "react";
import { useParams, useSearchParams } from "react-router";
import { api, take, type DraftAnswers, type DraftField, type DraftQuestion, type FirstDraft } from "../../api/client";
import { changed, keys } from "../../api/keys";
import { count } from "../../shared/format";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading, useFailed } from "../../shared/states";
import { Code } from "../../shared/tags";
import { Judged } from "./judged";

const steps = ["questions", "fields", "contract", "findings"] as const;
type Step = (typeof steps)[number];

const aboutFields = [
  "public, granted",
  "internal, granted",
  "internal, left out",
  "personal, granted",
  "personal, left out",
  "secret, left out",
];

/** The first contracts of a service: questions, fields, contract, findings. */
export default function Draft() {
  const { id = "" } = useParams();
  const queries = useQueryClient();
  const failed = useFailed();
  const [search, setSearch] = useSearchParams();
  const [inForce, setInForce] = useState<string>();
  const draft = useQuery({
    queryKey: keys.draft(id),
    queryFn: () => take(api.GET("/api/v1/drafts/{draft_id}", { params: { path: { draft_id: Number(id) } } })),
    enabled: !inForce,
  });
  const answer = useMutation({
    mutationFn: (body: DraftAnswers) =>
      take(api.PATCH("/api/v1/drafts/{draft_id}", { params: { path: { draft_id: Number(id) } }, body })),
    onSuccess: (d) => queries.setQueryData(keys.draft(id), d),
    onError: failed,
  });
  if (inForce) return <Judged draft={Number(id)} service={inForce} />;
  if (draft.isPending) return <Loading what="the draft" />;
  if (draft.error) return <Failed error={draft.error} again={() => draft.refetch()} />;
  const d = draft.data;
  const asks = d.questions.length > 0 || d.answers.length > 0;
  const step: Step = steps.find((s) => s === search.get("step")) ?? (asks ? "questions" : "contract");
  const go = (to: Step) => {
    setSearch({ step: to });
    window.scrollTo(0, 0);
  };
  return (
    <>
      <Heading title={`New service: ${d.service}`}>{`New service: ${d.service}`}</Heading>
      <Typography.Paragraph type="secondary">
        {`${count(d.endpoints, "endpoint")} over ${d.entities === 1 ? "1 entity" : `${d.entities} entities`}, drafted from ${d.sources.join(", ")}`}
      </Typography.Paragraph>
      <Steps
        size="small"
        className="below-16"
        current={steps.indexOf(step)}
        onChange={(n) => n < 3 && go(steps[n]!)}
        items={[
          { title: "Questions", content: asks ? `${d.questions.length} open` : "none" },
          { title: "Classes", content: count(d.fields.length, "field") },
          { title: "Contract" },
          { title: "Findings", disabled: true },
        ]}
      />
      {d.notes.map((n) => (
        <Alert key={n} type="info" showIcon className="below-8" title={n} />
      ))}
      {step === "questions" && (
        <Questions draft={d} busy={answer.isPending} answer={answer.mutate} next={() => go("fields")} />
      )}
      {step === "fields" && (
        <Fields draft={d} busy={answer.isPending} answer={answer.mutate} next={() => go("contract")} />
      )}
      {step === "contract" && (
        <Contract
          draft={d}
          answer={answer.mutate}
          done={(service) => {
            setInForce(service);
            void changed(queries, "contracts");
          }}
        />
      )}
    </>
  );
}

interface Part {
  draft: FirstDraft;
  busy?: boolean;
  answer: (a: DraftAnswers) => void;
  next?: () => void;
}

function Questions({ draft: d, busy, answer, next }: Part) {
  const suggested = d.questions.some((q) => q.answers.includes(q.suggestion));
  const given = d.answers.filter((a) => !a.question.startsWith("field "));
  return (
    <section className="sheet" aria-label="Questions">
      <Flex justify="space-between" wrap gap={8} className="below-16">
        <Typography.Text>
          {d.questions.length === 0
            ? "Everything is decided."
            : suggested
              ? `${count(d.questions.length, "question")} open, the most important first. Each says what the draft does until it is answered.`
              : `${count(d.questions.length, "question")} open that nothing suggests an answer to. They may stay open.`}
        </Typography.Text>
        <Flex gap={8}>
          {suggested && (
            <Button loading={busy} onClick={() => answer({ as_suggested: true })}>
              Take all suggestions
            </Button>
          )}
          <Button type="primary" onClick={next}>
            Next: classes
          </Button>
        </Flex>
      </Flex>
      <Table<DraftQuestion>
        rowKey="id"
        showHeader={false}
        dataSource={d.questions}
        pagination={{ pageSize: 20, hideOnSinglePage: true }}
        locale={{
          emptyText: <Empty title="No question is open">Classes can still be changed in the next step.</Empty>,
        }}
        columns={[{ render: (_, q) => <Question question={q} answer={answer} /> }]}
      />
      {given.length > 0 && (
        <details className="above-8">
          <summary>{`${count(given.length, "question")} answered`}</summary>
          <ul className="plain">
            {given.map((a) => (
              <li key={a.question}>
                <Code>{a.question}</Code> {a.answer}{" "}
                <Button
                  size="small"
                  type="link"
                  aria-label={`Take back the answer to ${a.question}`}
                  onClick={() => answer({ answers: [{ question: a.question, answer: "" }] })}
                >
                  Take back
                </Button>
              </li>
            ))}
          </ul>
        </details>
      )}
    </section>
  );
}

function Question({ question: q, answer }: { question: DraftQuestion; answer: (a: DraftAnswers) => void }) {
  return (
    <fieldset className="plain-set">
      <legend>
        <strong>{q.entity ? `${q.entity}.${q.field}` : "Who calls"}</strong>{" "}
        {q.concerns.length > 1 && <Tag>{`decides ${count(q.concerns.length, "field")}`}</Tag>}
      </legend>
      <div className="below-8">{q.text}</div>
      {q.concerns.length > 1 && (
        <details className="below-8">
          <summary>Which fields</summary>
          <Typography.Text type="secondary">{q.concerns.join(", ")}</Typography.Text>
        </details>
      )}
      <Radio.Group onChange={(e) => answer({ answers: [{ question: q.id, answer: String(e.target.value) }] })}>
        {q.answers.map((a) => (
          <Radio key={a} value={a}>
            {a}
            {a === q.suggestion && <Typography.Text type="secondary">{` (suggested, ${q.certainty})`}</Typography.Text>}
          </Radio>
        ))}
      </Radio.Group>
    </fieldset>
  );
}

function Fields({ draft: d, answer, next }: Part) {
  const [about, setAbout] = useState("");
  const shown = d.fields.filter((f) => `${f.entity}.${f.field}`.toLowerCase().includes(about.toLowerCase()));
  return (
    <section className="sheet" aria-label="Classes">
      <Flex justify="space-between" wrap gap={8} className="below-16">
        <Input.Search
          aria-label="Fields to show"
          placeholder="entity or field"
          className="wide-300"
          allowClear
          onChange={(e) => setAbout(e.target.value)}
        />
        <Button type="primary" onClick={next}>
          Next: the contract
        </Button>
      </Flex>
      <Table<DraftField>
        size="small"
        rowKey={(f) => `${f.entity}.${f.field}`}
        dataSource={shown}
        pagination={{ pageSize: 50, hideOnSinglePage: true }}
        locale={{ emptyText: <Empty title={about ? "No such field" : "The draft has no fields to class"} /> }}
        columns={[
          {
            title: "Field",
            sorter: (a, b) => `${a.entity}.${a.field}`.localeCompare(`${b.entity}.${b.field}`),
            render: (_, f) => <Code>{`${f.entity}.${f.field}`}</Code>,
          },
          { title: "Form", dataIndex: "form" },
          {
            title: "Goes out",
            render: (_, f) => (f.out ? "yes" : "no"),
            sorter: (a, b) => Number(a.out) - Number(b.out),
          },
          {
            title: "Class, and whether it is granted",
            width: 240,
            render: (_, f) => (
              <Select
                size="small"
                className="whole"
                aria-label={`Class of ${f.entity}.${f.field}`}
                value={said(f)}
                onChange={(a) => answer({ answers: [{ question: `field ${f.entity}.${f.field}`, answer: a }] })}
                options={aboutFields.map((a) => ({ value: a, label: a }))}
              />
            ),
          },
        ]}
      />
    </section>
  );
}

/** What a draft does with a field, as its answers say it. */
function said(f: DraftField): string | undefined {
  if (f.class === "unclassed") return undefined;
  const whole = `${f.class}, ${f.granted ? "granted" : "left out"}`;
  return aboutFields.includes(whole) ? whole : aboutFields.find((a) => a.startsWith(f.class));
}

function Contract({ draft: d, answer, done }: Part & { done: (service: string) => void }) {
  const [texts, setTexts] = useState<Record<string, string>>({});
  const [name, setName] = useState(d.service);
  const apply = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/drafts/{draft_id}/contracts", {
          params: { path: { draft_id: d.id } },
          body: Object.keys(texts).length
            ? { files: d.files.map((f) => ({ name: f.name, text: texts[f.name] ?? f.text })) }
            : {},
        }),
      ),
    onSuccess: (r) => done(r.service),
  });
  return (
    <section className="sheet" aria-label="Contract">
      <Flex justify="space-between" wrap gap={8} className="below-16" align="end">
        <label>
          Service
          <Flex gap={8}>
            <Input value={name} maxLength={100} onChange={(e) => setName(e.target.value)} />
            {name.trim() !== d.service && name.trim() && (
              <Button onClick={() => answer({ service: name.trim() })}>Rename</Button>
            )}
          </Flex>
        </label>
        <Typography.Text type="secondary">{`Audiences: ${d.audiences.join(", ") || "none"}`}</Typography.Text>
        <Button type="primary" loading={apply.isPending} onClick={() => apply.mutate()}>
          Put it in force
        </Button>
      </Flex>
      {d.questions.length > 0 && (
        <Alert
          type="info"
          showIcon
          className="below-8"
          title={`${count(d.questions.length, "question")} left open: they stay as comments, and the draft's suggestions count`}
        />
      )}
      {apply.error && <Alert role="alert" type="error" showIcon className="below-8" title={apply.error.message} />}
      {d.files.map((f) => (
        <label key={f.name}>
          {f.name}
          <Input.TextArea
            className="code below-8"
            spellCheck={false}
            rows={30}
            value={texts[f.name] ?? f.text}
            onChange={(e) => setTexts({ ...texts, [f.name]: e.target.value })}
          />
        </label>
      ))}
    </section>
  );
}
