/** Bytes for people, in thousands. */
export function bytes(n: number): string {
  if (n < 10_000) return `${n} B`;
  if (n < 10_000_000) return `${(n / 1000).toFixed(1)} kB`;
  return `${(n / 1_000_000).toFixed(1)} MB`;
}

export function count(n: number, noun: string, many = `${noun}s`): string {
  return `${n.toLocaleString()} ${n === 1 ? noun : many}`;
}

export function share(part: number, whole: number): string {
  return whole > 0 ? `${Math.round((part / whole) * 100)}%` : "0%";
}

const moment = new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "short" });

export function time(text: string | undefined): string {
  return text ? moment.format(new Date(text)) : "";
}

const relative = new Intl.RelativeTimeFormat(undefined, { numeric: "auto" });
const steps: [Intl.RelativeTimeFormatUnit, number][] = [
  ["day", 86_400],
  ["hour", 3_600],
  ["minute", 60],
];

/** How long ago, in the largest unit that fits. */
export function ago(text: string | undefined): string {
  if (!text) return "";
  const seconds = (new Date(text).getTime() - Date.now()) / 1000;
  for (const [unit, size] of steps) {
    if (Math.abs(seconds) >= size) return relative.format(Math.round(seconds / size), unit);
  }
  return "just now";
}
