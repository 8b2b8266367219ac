import { useQuery } from "@tanstack/react-query";
import { Button, Typography } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { api, take, type ContractFile, type Finding } from "../../api/client";
import { keys } from "../../api/keys";
import { count } from "../../shared/format";
import { useMay } from "../../shared/session";
import { Failed, Loading } from "../../shared/states";
import { Code, SeverityMark } from "../../shared/tags";

/** The findings in recorded traffic that a change removes and adds. */
export function EffectPanel({
  service,
  files,
  hash,
  base,
  changed,
  broken,
}: {
  service: string;
  files?: ContractFile[];
  hash?: string;
  base: number;
  changed: boolean;
  broken: boolean;
}) {
  const may = useMay("reviewer", service);
  const [asked, setAsked] = useState<string>();
  const current = asked === hash && asked !== undefined;
  const effect = useQuery({
    queryKey: keys.effect(service, asked),
    queryFn: () =>
      take(
        api.POST("/api/v1/services/{service}/contracts/trial", {
          params: { path: { service } },
          body: { files, base, effect: true },
        }),
      ),
    enabled: current && changed && !broken,
    staleTime: Infinity,
  });
  if (!may)
    return (
      <Typography.Text type="secondary">
        The effect on recorded captures is shown to reviewers: it depends on the values in them.
      </Typography.Text>
    );
  if (!changed) return <Typography.Text type="secondary">Nothing is changed yet.</Typography.Text>;
  if (broken) return <Typography.Text type="secondary">The contract has problems; mend them first.</Typography.Text>;
  if (!current)
    return (
      <Button onClick={() => setAsked(hash)} type="primary" ghost>
        Judge the recorded captures by both
      </Button>
    );
  if (effect.isPending) return <Loading what="the effect: recorded captures are judged anew" />;
  if (effect.error) return <Failed error={effect.error} again={() => effect.refetch()} />;
  const e = effect.data.effect;
  if (!e) return null;
  return (
    <>
      <Typography.Paragraph type="secondary">
        {e.captures === 0
          ? "No recorded capture is touched by this."
          : `${count(e.captures, "capture")} judged by both${e.most ? ", the newest; there are more" : ""}.`}
      </Typography.Paragraph>
      <List title="would go" sign="−" all={e.gone} linked />
      <List title="would come" sign="+" all={e.came} />
    </>
  );
}

function List({ title, sign, all, linked }: { title: string; sign: string; all: Finding[]; linked?: boolean }) {
  const most = 60;
  return (
    <>
      <Typography.Title level={2}>
        {sign} {count(all.length, "finding")} {title}
      </Typography.Title>
      <ul className="plain effect">
        {all.slice(0, most).map((f) => (
          <li key={f.id}>
            <SeverityMark severity={f.severity} /> {linked ? <Link to={`/findings/${f.id}`}>{f.kind}</Link> : f.kind}{" "}
            <Typography.Text type="secondary">
              {f.endpoint} {f.audience}
            </Typography.Text>{" "}
            <Code>{f.path}</Code>
          </li>
        ))}
        {all.length > most && <li>and {all.length - most} more</li>}
      </ul>
    </>
  );
}
