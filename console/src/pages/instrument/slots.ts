// Bars and gaps on one axis.
import type { Bar, Gap } from "../../composables/api";

export interface Slot {
  moment: string;
  bar?: Bar;
  gap?: Gap;
}

export interface Stretch {
  from: number;
  to: number;
  gap: Gap;
}

/** Places drawn for one gap at most, so that a long one does not push the bars off. */
const most = 120;

/**
 * Bars in time order, with places for the missing ones between them. A gap
 * outside the bars shown is left out, but for one that touches them.
 */
export function withGaps(bars: Bar[], gaps: Gap[], daily: boolean): { slots: Slot[]; stretches: Stretch[] } {
  const moment = (bar: Bar) => bar.time ?? bar.date ?? "";
  const slots: Slot[] = bars.map((bar) => ({ moment: moment(bar), bar }));
  const [first, last] = [slots.at(0)?.moment, slots.at(-1)?.moment];
  const step = daily ? 86400_000 : 60_000;
  for (const gap of gaps) {
    if (gap.cause === "not-yet-due") continue;
    if (first && last && (gap.to < first || Date.parse(gap.from) > Date.parse(last) + step * 500)) continue;
    const places = Math.min(gap.slots, most);
    for (let i = 0; i < places; i++) {
      const time = new Date(Date.parse(gap.from) + i * step).toISOString();
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
