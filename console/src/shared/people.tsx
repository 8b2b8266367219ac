import { useQuery } from "@tanstack/react-query";
import { Select, Tag, Typography } from "antd";
import { api, take, type Finding } from "../api/client";
import { keys } from "../api/keys";

/** Everybody. */
export function usePeople() {
  return useQuery({ queryKey: keys.people(), queryFn: () => take(api.GET("/api/v1/people")), staleTime: 60_000 });
}

/** A filter by who has a finding. */
export function Assigned({ value, onChange }: { value: string; onChange: (v: string) => void }) {
  const people = usePeople();
  const options = [
    { value: "me", label: "me" },
    { value: "nobody", label: "nobody" },
    ...(people.data ?? []).map((p) => ({ value: p.email, label: p.name || p.email })),
    ...(value.startsWith("team:") ? [{ value, label: value.replace(":", " ") }] : []),
  ];
  return (
    <Select
      allowClear
      showSearch={{ optionFilterProp: "label" }}
      aria-label="Assigned to"
      placeholder="Assigned to"
      className="least-140"
      value={value || undefined}
      onChange={(v?: string) => onChange(v ?? "")}
      options={options}
    />
  );
}

/** A filter by label. */
export function Labels({ value, onChange }: { value: string; onChange: (v: string) => void }) {
  const labels = useLabels();
  return (
    <Select
      allowClear
      showSearch
      aria-label="Label"
      placeholder="Label"
      className="least-110"
      value={value || undefined}
      onChange={(v?: string) => onChange(v ?? "")}
      options={labels.data?.map((l) => ({ value: l.label, label: `${l.label} (${l.findings})` }))}
    />
  );
}

export function useLabels() {
  return useQuery({
    queryKey: keys.labels(),
    queryFn: () => take(api.GET("/api/v1/findings/labels")),
    staleTime: 30_000,
  });
}

/** Whether an open finding is overdue. */
export function overdue(f: Finding): boolean {
  return (
    !!f.due && f.due < new Date().toISOString().slice(0, 10) && !["closed", "waived", "not-a-leak"].includes(f.state)
  );
}

/** Who has a finding, when it is due, and its labels. */
export function Held({ finding: f }: { finding: Finding }) {
  const team = f.assigned_team ?? f.team;
  return (
    <>
      {f.person ? f.person.name : team && <Typography.Text type="secondary">team {team}</Typography.Text>}
      {f.due && (
        <div>
          <Typography.Text type={overdue(f) ? "danger" : "secondary"}>
            {overdue(f) ? `⚠ overdue ${f.due}` : `due ${f.due}`}
          </Typography.Text>
        </div>
      )}
      {f.labels?.map((l) => (
        <Tag key={l} variant="outlined">
          {l}
        </Tag>
      ))}
    </>
  );
}
