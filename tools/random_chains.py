"""Fifty products with four contracts a year for ten years, and a universe whose members come and go: the rolls, the continuous series and the
masked cells are worked out once more here, with exact fractions. Ends with 1 where a cell differs. Used by `make check-chains`:
PROGRAM [PRODUCTS [SEED]]."""

import random
import sys
import time
from bisect import bisect_left, bisect_right
from datetime import date, timedelta
from fractions import Fraction

from exact import rounded
from served import configured, money, profile, room, rows, series, serving, told, written

PROGRAM = sys.argv[1]
PRODUCTS = int(sys.argv[2]) if len(sys.argv) > 2 else 50
SEED = int(sys.argv[3]) if len(sys.argv) > 3 else 1
DICE = random.Random(SEED)
FIRST, LAST = date(2015, 1, 5), date(2025, 3, 28)
SESSIONS = [d for d in (FIRST + timedelta(n) for n in range((date(2026, 1, 1) - FIRST).days)) if d.weekday() < 5 and (d.month, d.day) not in {(1, 1), (12, 25)}]
CLOSED = bisect_right(SESSIONS, LAST)
RULES = {
    "expiry": '{ by = "before-expiry", sessions = 4 }',
    "notice": '{ by = "before-notice", sessions = 3 }',
    "month": '{ by = "day-of-month", day = 31, months_before = 1 }',
    "volume": '{ by = "volume", sessions = 2 }',
    "interest": '{ by = "open-interest", sessions = 2 }',
    "second": '{ by = "volume", sessions = 1 }',
}


class Contract:
    """A contract with a bar in most sessions of its last year."""

    def __init__(self, product, year, month):
        self.symbol = f"{product}-{year}-{month:02}"
        self.expiry = date(year, month, DICE.randint(12, 24))
        while self.expiry not in WHICH:
            self.expiry += timedelta(1)
        self.notice = self.expiry - timedelta(DICE.randint(5, 20)) if DICE.random() < 0.5 else None
        self.limit = min(self.notice or self.expiry, self.expiry)
        # A few never trade, and some begin late.
        first = WHICH[self.expiry] - DICE.choice([250, 250, 250, 90, 40])
        traded = [] if DICE.random() < 0.03 else range(max(0, first), min(WHICH[self.expiry] + 1, CLOSED))
        self.bars, price = {}, DICE.randint(-400, 12_000)
        for at in traded:
            price += DICE.randint(-60, 60)
            if DICE.random() < 0.93:
                days = (self.expiry - SESSIONS[at]).days
                crowd = max(0, 90 - abs(days - 40)) * DICE.randint(1, 40)
                held = "" if DICE.random() < 0.05 else max(1, 120 - abs(days - 35)) * DICE.randint(20, 30)
                self.bars[SESSIONS[at]] = (price - 3, price + 9, price - 11, price, crowd, held)

    def volume(self, day):
        return self.bars[day][4] if day in self.bars else 0

    def held(self, day):
        return (self.bars[day][5] if day in self.bars else "") or None

    def began(self, day):
        return bool(self.bars) and min(self.bars) <= day

    def latest(self):
        """The last session after whose close it has to be let go."""
        return max(0, bisect_left(SESSIONS, self.limit) - 2)


WHICH = {day: at for at, day in enumerate(SESSIONS)}


def last_of(month_of, day):
    year, month = divmod(month_of, 12)
    following = date(year + (month == 11), (month + 1) % 12 + 1, 1)
    return min(date(year, month + 1, 1) + timedelta(day - 1), following - timedelta(1))


def rolls(contracts, rule):
    """Legs of the front contract, as places with their first session, and the rolls: session decided, old, new, the two closes."""
    begin = min(WHICH[min(c.bars)] for c in contracts if c.bars)
    front = next(n for n, c in enumerate(contracts) if c.began(SESSIONS[begin]) and c.latest() >= begin)
    legs, found = [(front, begin)], []
    for at in range(begin, CLOSED):
        today, tomorrow, old = SESSIONS[at], SESSIONS[at + 1], contracts[front]
        later = [n for n in range(front + 1, len(contracts)) if contracts[n].latest() > at]
        if not later:
            continue
        new = next((n for n in later if contracts[n].began(today)), later[0])
        day = {"expiry": old.expiry, "notice": old.notice or old.expiry}.get(rule)
        if day:
            ahead = {"expiry": 4, "notice": 3}[rule]
            now = at + 1 >= max(0, bisect_left(SESSIONS, day) - ahead)
        elif rule == "month":
            now = tomorrow >= last_of(old.expiry.year * 12 + old.expiry.month - 2, 31)
        elif rule == "interest":
            # That of a session is published in the next one.
            both = [(contracts[new].held(d), old.held(d)) for d in SESSIONS[max(0, at - 2) : at]]
            now = at >= 2 and all(a and b and a > b for a, b in both)
        else:
            running = 2 if rule == "volume" else 1
            now = at + 1 >= running and all(contracts[new].volume(d) > old.volume(d) for d in SESSIONS[at + 1 - running : at + 1])
        if now or at >= old.latest():
            found.append((at, front, new))
            legs.append((new, at + 1))
            front = new
    return legs, found


def continuous(contracts, rule, nth):
    """For each session of the series: its contract, the bar, the shift and the ratio; prices as traded in the newest contract."""
    legs, found = rolls(contracts, rule)
    behind = nth - 1
    legs = [(n + behind, at) for n, at in legs if n + behind < len(contracts)]
    steps = []
    for at, old, new in found:
        if new + behind >= len(contracts):
            continue
        a, b = contracts[old + behind].bars, contracts[new + behind].bars
        both = next((d for d in reversed(SESSIONS[max(0, at - 9) : at + 1]) if d in a and d in b), None)
        steps.append((a[both][3], b[both][3]) if both else None)
    out, shift, ratio = {}, 0, Fraction(1)
    ends = [at for _, at in legs[1:]] + [CLOSED]
    for place in range(len(legs) - 1, -1, -1):
        n, begin = legs[place]
        if place < len(legs) - 1 and steps[place]:
            old, new = steps[place]
            shift += new - old
            ratio *= Fraction(new, old) if old > 0 and new > 0 else 1
        for at in range(begin, ends[place]):
            bar = contracts[n].bars.get(SESSIONS[at])
            if bar:
                out[SESSIONS[at]] = (contracts[n].symbol, bar, shift, ratio)
    return out, len(legs)


def compared(base, name, series):
    """Cells compared and those that differ: as traded, by difference, by ratio, anchored to either end."""
    days = sorted(series)
    oldest = series[days[0]]
    # All numbers of a bar, and closes alone.
    whole, alone = range(8), (0, 1, 5)
    names = "date,contract,open,high,low,close,volume,open_interest".split(",")
    ways = {
        "": lambda p, s, r: money(p),
        "&rolls=difference": lambda p, s, r: money(p + s),
        "&rolls=difference&anchor=oldest": lambda p, s, r: money(p + s - oldest[2]),
        "&rolls=ratio": lambda p, s, r: rounded(Fraction(p, 100) * r, 6),
        "&rolls=ratio&anchor=oldest": lambda p, s, r: rounded(Fraction(p, 100) * r / oldest[3], 6),
    }
    cells = wrong = 0
    for way, price in ways.items():
        want = [[str(d), s, *(price(p, shift, ratio) for p in bar[:4]), str(bar[4]), str(bar[5])] for d in days for s, bar, shift, ratio in [series[d]]]
        for places in (whole, alone):
            columns = ",".join(names[place] for place in places)
            asked = [[row[place] for place in places] for row in want]
            got = rows(base, f"/bars?instrument={name}&columns={columns}{way}")
            differ = abs(len(asked) - len(got)) + sum(a != b for x, y in zip(asked, got) for a, b in zip(x, y))
            if differ:
                print(f"  {name}{way} {columns}: {differ} differ", next(((x, y) for x, y in zip(asked, got) if x != y), (len(asked), len(got))))
            cells, wrong = cells + len(places) * len(asked), wrong + differ
    return cells, wrong


def membership(symbols):
    """Stays that do not touch, for each symbol none to three."""
    out = {}
    for symbol in symbols:
        ends = sorted(DICE.sample(range(0, CLOSED), 2 * DICE.randint(0, 3)))
        out[symbol] = [(SESSIONS[a], SESSIONS[b]) for a, b in zip(ends[::2], ends[1::2])]
    return out


def main():
    products = [f"P{n:02}" for n in range(PRODUCTS)]
    chains = {p: [Contract(p, y, m) for y in range(2015, 2026) for m in (3, 6, 9, 12)] for p in products}
    chosen = {p: list(RULES)[n % len(RULES)] for n, p in enumerate(products)}
    everyone = [c for p in products for c in chains[p] if c.bars]
    stays = membership([c.symbol for c in everyone])
    head = "symbol,name,kind,venue,currency,tick_size,multiplier,listed,last_traded,former,expiry,product,first_notice\n"
    line = lambda p, c: f"{c.symbol},Contract {c.symbol},future,RNDF,CAD,0.01,1,,{c.expiry},,{c.expiry},{p},{c.notice or ''}\n"
    venue = 'code = "RNDF"\nname = "Random futures"\nzone = "America/Halifax"\n[[week]]\nfrom = "2014-01-01"\ndays = ["Mon", "Tue", "Wed", "Thu", "Fri"]\nhours = ["18:00-17:00"]\n'
    venue += "[holidays]\n" + "".join(f'{y}-{d} = "Closed"\n' for y in range(2015, 2027) for d in ("01-01", "12-25"))
    files = {
        "mizuno.toml": 'desk = "Random"\nlisten = "127.0.0.1:0"\n',
        "venues/rndf.toml": venue,
        "instruments/rndf.csv": head + "".join(line(p, c) for p in products for c in chains[p]),
        "sources/shelf.toml": profile("", series("1d", "RNDF", "daily", "%Y-%m-%d", ', open_interest = "i"')),
        "collectors/daily.toml": f'name = "daily"\nsource = "shelf"\nvenue = "RNDF"\ninterval = "1d"\nsince = "{FIRST}"\n',
        "checks.toml": "",
        "universes/some.toml": "".join(f'[[member]]\nsymbol = "{s}"\nfrom = "{a}"\nto = "{b}"\n' for s, all_ in stays.items() for a, b in all_),
    }
    for p in products:
        nth = "nth = 2\n" if chosen[p] == "second" else ""
        files[f"chains/{p.lower()}-c.toml"] = f'venue = "RNDF"\nproduct = "{p}"\n{nth}roll = {RULES[chosen[p]]}\n'
    with room() as root:
        configured(root, files)
        for c in everyone:
            written(root / f"data/shelf/daily/{c.symbol}.csv", [(day, *map(money, bar[:4]), *bar[4:]) for day, bar in sorted(c.bars.items())], "i")
        with serving(PROGRAM, root, "2025-03-29T12:00:00Z") as address:
            base, began, cells, wrong, legs = f"{address}/api/v1", time.time(), 0, 0, 0
            told(PROGRAM, address, "collect", "daily")
            for p in products:
                series_, count = continuous(chains[p], chosen[p], 2 if chosen[p] == "second" else 1)
                c, w = compared(base, f"{p.lower()}-c", series_)
                cells, wrong, legs = cells + c, wrong + w, legs + count
            print(f"{len(products)} chains with {legs} legs, seed {SEED}: {cells} cells, {wrong} differ, in {time.time() - began:.0f} s")
            belongs = lambda symbol, day: any(a <= day < b for a, b in stays[symbol])
            want = sorted([str(day), c.symbol, money(bar[3])] for c in everyone for day, bar in c.bars.items() if belongs(c.symbol, day))
            got = sorted(rows(base, "/bars?universe=some&columns=date,instrument,close"))
            differ = abs(len(want) - len(got)) + sum(a != b for a, b in zip(want, got))
            print(f"a universe of {len(stays)} with {sum(map(len, stays.values()))} stays: {len(want)} cells, {differ} differ")
            return 1 if wrong + differ or not cells or not want else 0


sys.exit(main())
