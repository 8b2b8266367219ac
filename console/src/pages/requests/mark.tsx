import { Tag } from "antd";
import type { ExposureRequest } from "../../api/client";

const signs: Record<ExposureRequest["state"], [string, string]> = {
  open: ["●", "waiting"],
  granted: ["✓", "granted"],
  countered: ["◐", "granted less"],
  declined: ["✕", "declined"],
  withdrawn: ["−", "withdrawn"],
};

/** The state of a request, by sign and word. */
export function RequestMark({ state }: { state: ExposureRequest["state"] }) {
  const [sign, word] = signs[state];
  return (
    <Tag color={state === "open" ? "warning" : undefined} variant="outlined">
      <span aria-hidden>{sign}</span> {word}
    </Tag>
  );
}
