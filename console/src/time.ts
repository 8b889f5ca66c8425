// Times in the viewer's zone, with the offset in sight.

const two = (n: number) => String(n).padStart(2, "0");

export function clock(t: Date, fraction = false): string {
  const text = `${two(t.getHours())}:${two(t.getMinutes())}:${two(t.getSeconds())}`;
  return fraction ? `${text}.${String(t.getMilliseconds()).padStart(3, "0")}` : text;
}

export function day(t: Date): string {
  return `${t.getFullYear()}-${two(t.getMonth() + 1)}-${two(t.getDate())}`;
}

export function offset(t: Date): string {
  const minutes = -t.getTimezoneOffset();
  const sign = minutes < 0 ? "-" : "+";
  return `${sign}${two(Math.floor(Math.abs(minutes) / 60))}:${two(Math.abs(minutes) % 60)}`;
}

export function ago(iso: string | null | undefined): string {
  if (!iso) return "never";
  const s = (Date.now() - new Date(iso).getTime()) / 1000;
  if (s < 2) return "now";
  if (s < 60) return `${Math.floor(s)} s ago`;
  if (s < 3600) return `${Math.floor(s / 60)} min ago`;
  if (s < 48 * 3600) return `${Math.floor(s / 3600)} h ago`;
  return `${Math.floor(s / 86400)} days ago`;
}

export const count = (n: number) => n.toLocaleString("en");

// ranges are spans that end now, in milliseconds.
export const ranges: Record<string, number> = { "1m": 60e3, "5m": 5 * 60e3, "15m": 15 * 60e3, "1h": 3600e3, "6h": 6 * 3600e3, "24h": 24 * 3600e3, "7d": 7 * 24 * 3600e3, "30d": 30 * 24 * 3600e3, "90d": 90 * 24 * 3600e3, "1y": 365 * 24 * 3600e3 };

// rangeOf is a range that there is: the one that is asked for, or another.
export const rangeOf = (asked: string | null, otherwise: string) => (asked !== null && Object.hasOwn(ranges, asked) ? asked : otherwise);

// asInput is a time as a field for times has it, in the viewer's zone.
export const asInput = (t: number) => `${day(new Date(t))}T${clock(new Date(t))}`;
