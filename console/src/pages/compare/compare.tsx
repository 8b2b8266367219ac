import { useQuery } from "@tanstack/react-query";
import { Checkbox, Flex, InputNumber, Table, Typography } from "antd";
import { Link } from "react-router";
import { api, take, type Capture } from "../../api/client";
import type { components } from "../../api/schema.gen";
import { useAddress } from "../../shared/address";
import { bytes, count, share, time } from "../../shared/format";
import { Heading } from "../../shared/shell";
import { Empty, Failed, Loading } from "../../shared/states";
import { Code } from "../../shared/tags";
import { keys } from "../../api/keys";

type Place = components["schemas"]["ComparedPlace"];

const signs: Record<Place["shift"], string> = {
  gone: "−",
  added: "+",
  renamed: "→",
  retyped: "≠",
  resized: "~",
  same: "",
};

/** Two captures side by side: what of the body went, came, has another name, type or weight. */
export default function Compare() {
  const { get, set } = useAddress();
  const before = Number(get("before"));
  const after = Number(get("after"));
  const all = get("show") === "all";
  const both = useQuery({
    queryKey: keys.comparison(before, after),
    queryFn: () => take(api.GET("/api/v1/comparisons", { params: { query: { before, after } } })),
    enabled: before > 0 && after > 0,
  });
  const places = both.data?.places.filter((p) => all || p.shift !== "same") ?? [];
  return (
    <>
      <Heading
        title={`Captures ${before} and ${after}`}
        aside={
          <Flex gap={8} align="center" wrap>
            <InputNumber
              aria-label="The capture before"
              min={1}
              value={before || null}
              onChange={(v) => v && set({ before: String(v) })}
              prefix="before"
              className="wide-130"
            />
            <InputNumber
              aria-label="The capture after"
              min={1}
              value={after || null}
              onChange={(v) => v && set({ after: String(v) })}
              prefix="after"
              className="wide-130"
            />
            <Checkbox checked={all} onChange={(e) => set({ show: e.target.checked ? "all" : "" })}>
              what is the same, too
            </Checkbox>
          </Flex>
        }
      >
        Before and after
      </Heading>
      {!(before > 0 && after > 0) && (
        <Empty title="Say which captures">Their numbers are in the list of captures.</Empty>
      )}
      {both.isLoading && <Loading what="the comparison" />}
      {both.error && <Failed error={both.error} again={() => both.refetch()} />}
      {both.data && (
        <div className="stack">
          <div className="split even">
            <Side title="Before" c={both.data.before} />
            <Side title="After" c={both.data.after} than={both.data.before} />
          </div>
          <Table<Place>
            size="small"
            rowKey={(p) => `${p.shift} ${p.path}`}
            aria-label="What differs"
            dataSource={places}
            locale={{ emptyText: <Empty title="Their bodies are of the same structure and weight" /> }}
            pagination={{ pageSize: 100, hideOnSinglePage: true, showSizeChanger: false }}
            columns={[
              {
                title: "",
                width: 100,
                render: (_, p) => <strong className={`shift-${p.shift}`}>{`${signs[p.shift]} ${p.shift}`}</strong>,
              },
              {
                title: "Path",
                render: (_, p) => (
                  <>
                    {p.from && (
                      <>
                        <Code>{p.from}</Code> →{" "}
                      </>
                    )}
                    <Code>{p.path}</Code>{" "}
                    {p.below ? <Typography.Text type="secondary">and {p.below} inside</Typography.Text> : null}
                  </>
                ),
              },
              { title: "Was", width: 150, render: (_, p) => of(p.before) },
              { title: "Is", width: 150, render: (_, p) => of(p.after) },
              { title: "Bytes", width: 90, align: "right", render: (_, p) => change(-p.saved) },
              { title: "Leaked", width: 150, render: (_, p) => p.leaked },
              {
                title: "Leaks",
                width: 150,
                render: (_, p) =>
                  p.leaks ? (
                    <Typography.Text type="danger">{p.leaks}</Typography.Text>
                  ) : p.leaked ? (
                    <Typography.Text type="success">✓ no more</Typography.Text>
                  ) : (
                    ""
                  ),
              },
            ]}
          />
          <Code copyable>{`inkret capture compare ${before} ${after}`}</Code>
        </div>
      )}
    </>
  );
}

const of = (p?: Place["before"]) => (p ? `${p.values > 1 ? `${p.values} × ` : ""}${p.types.join("|")}` : "");
const change = (n: number) => (n === 0 ? "" : `${n > 0 ? "+" : "−"}${bytes(Math.abs(n))}`);

function Side({ title, c, than }: { title: string; c: Capture; than?: Capture }) {
  return (
    <section className="sheet" aria-label={title}>
      <Typography.Title level={2}>{title}</Typography.Title>
      <Link to={`/captures/${c.id}`}>
        <Code>{`${c.method} ${c.url}`}</Code>
      </Link>
      <div>
        as {c.audience || "nobody"}, status {c.status}, {time(c.started)}
      </div>
      <div>
        {bytes(c.bytes)}
        {than && than.bytes !== c.bytes && <strong> ({change(c.bytes - than.bytes)})</strong>}, {bytes(c.excess_bytes)}{" "}
        excess ({share(c.excess_bytes, c.bytes)}), {count(c.findings, "finding")}
      </div>
    </section>
  );
}
