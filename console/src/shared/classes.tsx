import { Tag } from "antd";
import type { ClassOrNone, Sentence } from "../api/client";

export const classes: ClassOrNone[] = ["public", "internal", "personal", "secret", "unclassed"];

const classSign: Record<ClassOrNone, string> = {
  public: "○",
  internal: "◐",
  personal: "●",
  secret: "■",
  unclassed: "?",
};

/** A field's class, by sign and word. */
export function ClassMark({ value }: { value: ClassOrNone | string }) {
  const known = (classes as string[]).includes(value) ? (value as ClassOrNone) : "unclassed";
  return (
    <span className={`class-mark class-${known}`}>
      <span aria-hidden>{classSign[known]}</span> {known}
    </span>
  );
}

const directionSign = { widening: "⇱", narrowing: "⇲", neutral: "=" };

/** Whether something lets more out, by sign and word. */
export function DirectionMark({ value, reaches }: { value: "widening" | "narrowing" | "neutral"; reaches?: string }) {
  return (
    <Tag color={value === "widening" ? "warning" : undefined} variant="outlined">
      <span aria-hidden>{directionSign[value]}</span> {value}
      {value === "widening" && reaches ? `, ${reaches}` : ""}
    </Tag>
  );
}

/** A summary of a change of contracts, in words. */
export function Sentences({ all, most = 40 }: { all: Sentence[]; most?: number }) {
  if (all.length === 0) return <span>Nothing that is granted changes.</span>;
  return (
    <ul className="sentences">
      {all.slice(0, most).map((s, i) => (
        <li key={i} className={`sentence-${s.direction}`}>
          <span className="sentence-sign" title={s.direction} aria-label={s.direction}>
            {directionSign[s.direction]}
          </span>{" "}
          {s.text}
        </li>
      ))}
      {all.length > most && <li>and {all.length - most} more</li>}
    </ul>
  );
}

/** A difference in the unified format, its lines marked. */
export function DiffText({ text }: { text: string }) {
  if (!text) return <span>The files are the same.</span>;
  return (
    <pre className="code diff" aria-label="Difference as text">
      {text.split("\n").map((line, i) => (
        <span
          key={i}
          className={
            line.startsWith("+")
              ? "diff-added"
              : line.startsWith("-")
                ? "diff-gone"
                : line.startsWith("@@")
                  ? "diff-place"
                  : undefined
          }
        >
          {line}
          {"\n"}
        </span>
      ))}
    </pre>
  );
}
