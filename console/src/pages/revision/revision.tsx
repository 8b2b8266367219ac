import { useMutation, useQuery } from "@tanstack/react-query";
import { Alert, Button, Flex, Input, Modal, Typography } from "antd";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, take, type Revision } from "../../api/client";
import { DiffText, DirectionMark, Sentences } from "../../shared/classes";
import { ago, time } from "../../shared/format";
import { useRevisionMade } from "../../shared/revisions";
import { useMay, useSession } from "../../shared/session";
import { Heading } from "../../shared/shell";
import { Failed, Loading } from "../../shared/states";
import { Code } from "../../shared/tags";
import { RevisionState } from "../contracts/contracts";
import { keys } from "../../api/keys";

/** One revision: what it changes in words and as text, its approval, and the way back to it. */
export default function RevisionPage() {
  const { service = "", number = "" } = useParams();
  const path = { service, number: Number(number) };
  const revision = useQuery({
    queryKey: keys.revision(service, number),
    queryFn: () => take(api.GET("/api/v1/services/{service}/revisions/{number}", { params: { path } })),
  });
  if (revision.isPending) return <Loading what="the revision" />;
  if (revision.error) return <Failed error={revision.error} again={() => revision.refetch()} />;
  const { revision: r, text } = revision.data;
  return (
    <>
      <Heading
        title={`Revision ${r.number} of ${service}`}
        aside={
          <Flex gap={8} align="center" wrap>
            <RevisionState revision={r} />
            {r.direction && <DirectionMark value={r.direction} reaches={r.reaches} />}
            {r.state === "earlier" && <Revert revision={r} />}
          </Flex>
        }
      >
        <Link to={`/contracts?service=${encodeURIComponent(service)}`}>{service}</Link>, revision {r.number}
      </Heading>
      <Typography.Paragraph>
        by <strong>{r.author}</strong>, <span title={time(r.created)}>{ago(r.created)}</span>
        {r.base ? (
          <>
            , made from{" "}
            <Link to={`/contracts/${encodeURIComponent(service)}/revisions/${r.base}`}>revision {r.base}</Link>
          </>
        ) : (
          ""
        )}
        {r.reason && <>: “{r.reason}”</>}
      </Typography.Paragraph>
      {r.decided_by && (
        <Typography.Paragraph>
          {r.state === "declined" ? "declined" : "approved"} by <strong>{r.decided_by}</strong>, {ago(r.decided)}
          {r.decision && <>: “{r.decision}”</>}
        </Typography.Paragraph>
      )}
      {r.state === "waiting" && <Decide revision={r} />}
      <div className="split even">
        <section className="sheet" aria-label="In words">
          <Typography.Title level={2}>What it changes</Typography.Title>
          <Sentences all={r.words} most={200} />
        </section>
        <section className="sheet" aria-label="As text">
          <Typography.Title level={2}>As text</Typography.Title>
          <DiffText text={text} />
        </section>
      </div>
    </>
  );
}

function Decide({ revision }: { revision: Revision }) {
  const lead = useMay("lead", revision.service);
  const { data: me } = useSession();
  const { made, failed } = useRevisionMade();
  const [comment, setComment] = useState("");
  const decide = useMutation({
    mutationFn: (approve: boolean) =>
      take(
        api.POST("/api/v1/services/{service}/revisions/{number}/decision", {
          params: { path: { service: revision.service, number: revision.number } },
          body: { approve, comment: comment || undefined },
        }),
      ),
    onSuccess: (d) => made({ ...d.revision, changed: true }),
    onError: failed,
  });
  const own = me?.id === revision.author_id;
  return (
    <Alert
      type="warning"
      showIcon
      className="below-16"
      title={`It exposes more ${revision.reaches} data, and waits for a second person.`}
      description={
        lead && !own ? (
          <Flex gap={8} wrap className="above-8">
            <Input
              aria-label="What you say to it"
              placeholder="What you say to it; needed to decline"
              value={comment}
              onChange={(e) => setComment(e.target.value)}
              className="wide-360"
            />
            <Button type="primary" loading={decide.isPending && decide.variables} onClick={() => decide.mutate(true)}>
              Approve
            </Button>
            <Button
              danger
              disabled={!comment.trim()}
              loading={decide.isPending && !decide.variables}
              onClick={() => decide.mutate(false)}
            >
              Decline
            </Button>
          </Flex>
        ) : (
          <>
            {own ? "Nobody approves a revision of their own." : "A lead or administrator can approve it."}{" "}
            <Code copyable>{`inkret contract approve ${revision.service} ${revision.number}`}</Code>
          </>
        )
      }
    />
  );
}

function Revert({ revision }: { revision: Revision }) {
  const may = useMay("reviewer", revision.service);
  const { made, failed } = useRevisionMade();
  const [open, setOpen] = useState(false);
  const [reason, setReason] = useState("");
  const revert = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/services/{service}/revisions/{number}/revert", {
          params: { path: { service: revision.service, number: revision.number } },
          body: { reason },
        }),
      ),
    onSuccess: (r) => {
      setOpen(false);
      made(r);
    },
    onError: failed,
  });
  if (!may) return null;
  return (
    <>
      <Button onClick={() => setOpen(true)}>Back to this revision</Button>
      <Modal
        title={`Back to revision ${revision.number}`}
        open={open}
        onCancel={() => setOpen(false)}
        onOk={() => revert.mutate()}
        okText="Make a new revision of it"
        okButtonProps={{ disabled: !reason.trim(), loading: revert.isPending }}
      >
        <label>
          Why
          <Input value={reason} onChange={(e) => setReason(e.target.value)} />
        </label>
      </Modal>
    </>
  );
}
