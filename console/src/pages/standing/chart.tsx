import { Line } from "@ant-design/charts";
import type { components } from "../../api/schema.gen";
import { useDark } from "../../shared/dark";
import { severities } from "../../shared/tags";
import { severityColour } from "../../theme";

const dashes = [[0], [7, 3], [2, 2], [8, 3, 2, 3], [12, 4]];

/** Open findings day by day: a line a severity, told apart by dash as well as by colour. */
export default function OpenChart({ days }: { days: components["schemas"]["StandingDay"][] }) {
  const { dark } = useDark();
  const shown = severities.filter((s) => days.some((d) => d.open[s] > 0));
  const data = days.flatMap((d) => shown.map((severity) => ({ day: d.day, severity, open: d.open[severity] })));
  return (
    <Line
      height={260}
      data={data}
      xField={(d: { day: string }) => new Date(`${d.day}T00:00:00Z`)}
      yField="open"
      colorField="severity"
      shapeField="hv"
      theme={dark ? "classicDark" : "classic"}
      scale={{
        color: { domain: shown, range: shown.map((s) => severityColour[s][dark ? "dark" : "light"]) },
        y: { domainMin: 0, nice: true },
      }}
      axis={{
        x: { labelFormatter: (d: Date) => d.toISOString().slice(5, 10) },
        y: { labelFormatter: (v: number) => (Number.isInteger(v) ? String(v) : "") },
      }}
      style={{
        lineWidth: 2,
        lineDash: (d: { severity: (typeof severities)[number] }[]) =>
          dashes[severities.indexOf(d[0]?.severity ?? "info")] ?? [0],
      }}
      tooltip={{ title: (d: { day: string }) => d.day }}
      legend={{ color: { position: "right" } }}
      animate={false}
    />
  );
}
