import { Line } from "@ant-design/charts";
import type { components } from "../../api/schema.gen";
import { useDark } from "../../shared/dark";

type Day = components["schemas"]["WeighedDay"];

const as = { now: "as it went out", first: "as first captured" } as const;
const colour = { [as.now]: { light: "#b4501e", dark: "#e08a52" }, [as.first]: { light: "#27407f", dark: "#8fa6e0" } };

/** The share of excess day by day, and what it were, had the endpoints stayed as they were first captured: told apart by dash as well as by colour. */
export default function ExcessChart({ days }: { days: Day[] }) {
  const { dark } = useDark();
  const share = (excess: number, of: number) => (of > 0 ? (100 * excess) / of : 0);
  const data = days.flatMap((d) => [
    { day: d.day, line: as.now, share: share(d.excess_bytes, d.bytes) },
    { day: d.day, line: as.first, share: share(d.excess_bytes + d.saved_bytes, d.bytes + d.saved_bytes) },
  ]);
  const lines = [as.now, as.first];
  return (
    <Line
      height={200}
      data={data}
      xField={(d: { day: string }) => new Date(`${d.day}T00:00:00Z`)}
      yField="share"
      colorField="line"
      shapeField="hv"
      theme={dark ? "classicDark" : "classic"}
      scale={{
        color: { domain: lines, range: lines.map((l) => colour[l]![dark ? "dark" : "light"]) },
        y: { domainMin: 0, nice: true },
      }}
      axis={{
        x: { labelFormatter: (d: Date) => d.toISOString().slice(5, 10) },
        y: { labelFormatter: (v: number) => `${v} %` },
      }}
      style={{ lineWidth: 2, lineDash: (d: { line: string }[]) => (d[0]?.line === as.first ? [6, 3] : [0]) }}
      tooltip={{
        title: (d: Day) => d.day,
        items: [{ channel: "y", valueFormatter: (v: number) => `${v.toFixed(1)} %` }],
      }}
      legend={{ color: { position: "right" } }}
      animate={false}
    />
  );
}
