// Bars and gaps on one axis.
import type { Bar, Gap } from "../../composables/api";

export interface Slot {
  moment: string;
  bar?: Bar;
  /** Of a bar made of finer ones: some of these are missing. */
  gap?: Gap;
}

export interface Stretch {
  from: number;
  to: number;
  gap: Gap;
}

/** Places drawn for one gap at most, so that a long one does not push the bars off. */
const most = 120;
const minute = 60_000;
const lengths: Record<string, number> = { m: minute, h: 60 * minute, d: 1440 * minute, w: 7 * 1440 * minute, mo: 30 * 1440 * minute, q: 91 * 1440 * minute, y: 365 * 1440 * minute };

/** About how long an interval is, in milliseconds. */
export function millis(interval: string): number {
  const [, count, unit] = /^(\d+)([a-z]+)$/.exec(interval) ?? [];
  return Number(count ?? 1) * (lengths[unit ?? "d"] ?? minute);
}

/**
 * Bars of `shown` in time order, with places for what is missing between them of bars of `own`. A gap within a bar marks it. One outside the bars
 * shown is left out, but for one that touches them.
 */
export function withGaps(bars: Bar[], gaps: Gap[], shown: string, own: string): { slots: Slot[]; stretches: Stretch[] } {
  const moment = (bar: Bar) => bar.time ?? bar.date ?? "";
  const slots: Slot[] = bars.map((bar) => ({ moment: moment(bar), bar }));
  const [first, last] = [slots.at(0)?.moment, slots.at(-1)?.moment];
  const step = millis(shown);
  const daily = step >= 1440 * minute;
  const starts = bars.map((bar) => Date.parse(moment(bar)));
  for (const gap of gaps) {
    if (gap.cause === "not-yet-due") continue;
    if (first && last && (gap.to < first || Date.parse(gap.from) > Date.parse(last) + step * 500)) continue;
    const places = Math.min(Math.max(1, Math.round((gap.slots * millis(own)) / step)), most);
    for (let i = 0; i < places; i++) {
      const at = Date.parse(gap.from) + i * step;
      const within = step > millis(own) ? starts.findLastIndex((start) => start <= at && at < start + step) : -1;
      if (within >= 0) {
        slots[within].gap = gap;
        continue;
      }
      const time = new Date(at).toISOString();
      slots.push({ moment: daily ? time.slice(0, 10) : time.replace(".000Z", "Z"), gap });
    }
  }
  slots.sort((a, b) => (a.moment < b.moment ? -1 : a.moment > b.moment ? 1 : 0));
  const stretches: Stretch[] = [];
  slots.forEach((slot, i) => {
    if (!slot.gap) return;
    const open = stretches.at(-1);
    if (open?.gap === slot.gap && open.to === i - 1) open.to = i;
    else stretches.push({ from: i, to: i, gap: slot.gap });
  });
  return { slots, stretches };
}
