import { Line } from "@ant-design/charts";
import type { components } from "../../api/schema.gen";
import { useDark } from "../../shared/dark";

/** The share that is covered of each part, day by day: a line each, told apart by dash as well as by colour. */
export default function Trend({
  days,
  parts,
}: {
  days: components["schemas"]["CoverageDay"][];
  parts: { kind: string; whole: string; title: string }[];
}) {
  const { dark } = useDark();
  const data = days.flatMap((d) =>
    parts.map((p) => {
      const whole = d.numbers[p.whole] ?? 0;
      return {
        day: d.day,
        part: p.title,
        share: whole ? Math.round(((whole - (d.numbers[p.kind] ?? 0)) / whole) * 1000) / 10 : 100,
      };
    }),
  );
  const dashes = [[0], [6, 3], [2, 2], [8, 3, 2, 3], [12, 4]];
  return (
    <Line
      height={240}
      data={data}
      xField="day"
      yField="share"
      colorField="part"
      theme={dark ? "classicDark" : "classic"}
      scale={{ y: { domain: [0, 100] } }}
      axis={{ y: { labelFormatter: (v: number) => `${v}%` } }}
      style={{
        lineWidth: 2,
        lineDash: (d: { part: string }[]) => dashes[parts.findIndex((p) => p.title === d[0]?.part)] ?? [0],
      }}
      legend={{ color: { position: "right" } }}
      animate={false}
    />
  );
}
