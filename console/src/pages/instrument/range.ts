// Ranges of trade dates to ask for.

const day = 86400_000;
const iso = (time: number) => new Date(time).toISOString().slice(0, 10);

/**
 * The trade dates of `days` days that end at `moment` (a date or an instant),
 * or lie around it when `centred`; everything when there is no moment.
 */
export function rangeAround(moment: string | undefined, days: number, centred: boolean): { from?: string; to?: string } {
  if (!moment) return {};
  const time = Date.parse(moment);
  // A weekend may follow or precede: two days more on either side.
  const after = centred ? Math.ceil(days / 2) + 1 : 2;
  return { from: iso(time - (days - (centred ? Math.floor(days / 2) : 0)) * day), to: iso(time + after * day) };
}
