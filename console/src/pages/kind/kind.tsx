import { Table } from "antd";
import Markdown from "react-markdown";
import { Link, useParams } from "react-router";
import type { components } from "../../api/schema.gen";
import { useKinds } from "../../shared/kinds";
import { Heading } from "../../shared/shell";
import { Failed, Loading, NotFound } from "../../shared/states";
import { Code } from "../../shared/tags";

type KindPage = components["schemas"]["KindPage"];

/** What a kind of finding means, when it is told and how it is mended; or all kinds. */
export default function Kind() {
  const { kind } = useParams();
  const kinds = useKinds();
  if (kinds.isPending) return <Loading what="the kinds" />;
  if (kinds.error) return <Failed error={kinds.error} again={() => kinds.refetch()} />;
  if (!kind) return <All kinds={kinds.data} />;
  const one = kinds.data.find((k) => k.kind === kind);
  if (!one) return <NotFound what="kind" />;
  return (
    <>
      <Heading title={one.kind} aside={<Link to={`/findings?kind=${one.kind}`}>Open findings of this kind</Link>}>
        <Link to="/kinds">Kinds</Link> / {one.kind}
      </Heading>
      <article className="sheet prose">
        <Markdown skipHtml>{one.page.replace(/^# .*\n/, "")}</Markdown>
        <Code copyable>{`inkret explain ${one.kind}`}</Code>
      </article>
    </>
  );
}

function All({ kinds }: { kinds: KindPage[] }) {
  return (
    <>
      <Heading title="Kinds of findings">Kinds of findings</Heading>
      <Table<KindPage>
        size="small"
        rowKey="kind"
        aria-label="Kinds"
        pagination={false}
        dataSource={kinds}
        columns={[
          { title: "Kind", width: 180, render: (_, k) => <Link to={`/kinds/${k.kind}`}>{k.kind}</Link> },
          { title: "CWE", width: 70, align: "right", dataIndex: "cwe" },
          { title: "What it is", dataIndex: "summary" },
        ]}
      />
    </>
  );
}
