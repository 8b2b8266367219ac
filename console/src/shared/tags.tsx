import { Tag, Typography } from "antd";
import type { Severity, State } from "../api/client";
import { severityColour } from "../theme";
import { useDark } from "./dark";

// Severity and state are told by sign and word as well as by colour.

const severitySign: Record<Severity, string> = { critical: "‼", high: "!", medium: "▲", low: "▽", info: "i" };

export const severities: Severity[] = ["critical", "high", "medium", "low", "info"];

export function SeverityMark({ severity }: { severity: Severity }) {
  const { dark } = useDark();
  return (
    <span
      className={`severity severity-${severity}`}
      style={{ color: severityColour[severity][dark ? "dark" : "light"] }}
    >
      <span aria-hidden className="severity-sign">
        {severitySign[severity]}
      </span>
      {severity}
    </span>
  );
}

const stateSign: Record<State, string> = {
  new: "●",
  returned: "↺",
  confirmed: "◆",
  "in-repair": "⚒",
  "awaiting-proof": "◷",
  waived: "⏸",
  "not-a-leak": "∅",
  closed: "✓",
};

export const stateWords: Record<State, string> = {
  new: "new",
  returned: "returned",
  confirmed: "confirmed",
  "in-repair": "in repair",
  "awaiting-proof": "awaiting proof",
  waived: "waived",
  "not-a-leak": "not a leak",
  closed: "closed",
};

export const states = Object.keys(stateWords) as State[];

export function StateMark({ state, until }: { state: State; until?: string }) {
  const calls = state === "new" || state === "returned";
  return (
    <Tag color={calls ? "warning" : undefined} variant="outlined">
      <span aria-hidden>{stateSign[state]}</span> {stateWords[state]}
      {until ? ` until ${until}` : ""}
    </Tag>
  );
}

/** A path, pointer or endpoint: monospace, broken where it may be. */
export function Code({ children, copyable }: { children: string; copyable?: boolean }) {
  return (
    <Typography.Text className="code" copyable={copyable ? { text: children, tooltips: ["Copy", "Copied"] } : false}>
      {children}
    </Typography.Text>
  );
}
