// Numbers and times as people read them.
import type { Completeness } from "./api";

const thousands = new Intl.NumberFormat("en-NZ", { useGrouping: true });

/** The numbers of a bar, in the order in which they are told. */
export const numbers = ["open", "high", "low", "close", "volume", "open interest"];

export function count(n: number): string {
  return thousands.format(n).replaceAll(",", "\u202f");
}

/** The share held or excused; never rounded up to all of it. */
export function percent(c: Completeness): string {
  const quiet = c.quiet ?? 0;
  if (c.expected + quiet === 0) return "–";
  if (c.missing === 0) return "100 %";
  return `${(Math.floor((10000 * (c.held + c.excused + quiet)) / (c.expected + quiet)) / 100).toFixed(2)} %`;
}

/** An instant on the wall of `zone`: `2025-04-10 14:30`, or with seconds. */
export function wall(instant: string | Date, zone: string, seconds = false): string {
  const parts = new Intl.DateTimeFormat("en-CA", {
    timeZone: zone,
    year: "numeric",
    month: "2-digit",
    day: "2-digit",
    hour: "2-digit",
    minute: "2-digit",
    second: "2-digit",
    hourCycle: "h23",
  }).formatToParts(new Date(instant));
  const part = (type: string) => parts.find((p) => p.type === type)?.value ?? "";
  const text = `${part("year")}-${part("month")}-${part("day")} ${part("hour")}:${part("minute")}`;
  return seconds ? `${text}:${part("second")}` : text;
}

export function bytes(n: number): string {
  if (n < 10240) return `${n} B`;
  return n < 10485760 ? `${Math.floor(n / 1024)} KiB` : `${Math.floor(n / 1048576)} MiB`;
}
