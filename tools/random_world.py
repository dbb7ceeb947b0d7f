"""A thousand random series with breaks, half days, both clock changes, splits, dividends and holes, served by the program and worked out once
more here with exact fractions. Exact numbers are compared to the last digit, statistics within 1e-12 of the largest number in their
window. Ends with 1 where a cell differs. Used by `make check-random`: PROGRAM [SERIES [SEED]]."""

import json
import math
import random
import sys
import time
import urllib.request
from datetime import date, datetime, timedelta, timezone
from fractions import Fraction
from zoneinfo import ZoneInfo

from exact import rounded
from served import configured, money, profile, room, rows, series, serving, told, written

PROGRAM = sys.argv[1]
SERIES = int(sys.argv[2]) if len(sys.argv) > 2 else 1000
SEED = int(sys.argv[3]) if len(sys.argv) > 3 else 1
DICE = random.Random(SEED)
WRONG = []
ZONE = ZoneInfo("Pacific/Auckland")
DAYS = (date(2024, 2, 5), date(2025, 3, 28))
MINUTES = (date(2025, 3, 31), date(2025, 4, 11))  # the clock goes back on 6 April
AUTUMN = (date(2024, 9, 23), date(2024, 10, 4))  # and forward on 29 September
HOLIDAYS = {date(2024, 4, 24), date(2024, 12, 25), date(2025, 1, 27), date(2025, 4, 9)}
SHORT = {date(2024, 12, 24), date(2025, 4, 3), date(2024, 9, 26)}
FULL, HALF = [("10:00", "12:30"), ("13:30", "16:45")], [("10:00", "12:30")]
FLOATS = ["return", "log_return", "total_return", "typical", "turnover", "mean_20", "deviation_20_of_return", "sum_5_of_volume", "drawdown_50"]
EXACT = ["change", "gap", "range", "lowest_10_of_low", "highest_10_of_high", "rises", "falls"]


def sessions(first, last):
    days = [first + timedelta(n) for n in range((last - first).days + 1)]
    return [day for day in days if day.weekday() < 5 and day not in HOLIDAYS]


def minutes_of(day):
    """The openings of the minutes of a session, on the clock of the venue, stretch by stretch."""
    out = []
    for start, end in HALF if day in SHORT else FULL:
        at, until = (datetime.combine(day, datetime.strptime(t, "%H:%M").time(), ZONE) for t in (start, end))
        out.append([at + timedelta(minutes=n) for n in range(int((until - at).total_seconds() // 60))])
    return out


def walk(count):
    """Bars of a random walk in cents: open, high, low, close, volume."""
    price = DICE.randint(300, 20_000)
    for _ in range(count):
        opening = max(50, price + DICE.randint(-8, 8))
        price = max(50, opening + DICE.randint(-40, 40))
        high, low = max(opening, price) + DICE.randint(0, 9), max(20, min(opening, price) - DICE.randint(0, 9))
        yield opening, high, low, price, DICE.randint(1, 90_000)


def action(dates):
    """Kind, terms and ex-date of a random action; some ex-dates have no session."""
    on = DICE.choice(dates) + timedelta(DICE.choice([0, 0, 0, 1, 2]))
    kind = DICE.choice(["split", "split", "bonus", "dividend", "dividend", "dividend", "rights", "spin-off"])
    few = lambda: str(DICE.randint(1, 4))
    terms = {
        "split": lambda: {"new": few(), "old": few()},
        "bonus": lambda: {"new": few(), "old": few()},
        "dividend": lambda: {"amount": money(DICE.randint(1, 40))},
        "rights": lambda: {"new": "1", "old": few(), "price": money(DICE.randint(50, 9_000))},
        "spin-off": lambda: {"new": "1", "old": few(), "value": money(DICE.randint(1, 60))},
    }[kind]()
    if kind == "split" and terms["new"] == terms["old"]:
        terms["new"] = str(int(terms["old"]) + 1)
    return kind, terms, on


def factors(kind, terms, close):
    """What prices and volumes before an action are multiplied by, and what a holder of one share gets; None where it cannot be applied."""
    number = lambda key: Fraction(terms[key])
    if kind in ("split", "bonus"):
        shares = number("new") / number("old") if kind == "split" else (number("old") + number("new")) / number("old")
        return 1 / shares, shares, (shares, 0)
    if close is None:
        return None
    if kind == "dividend":
        return ((close - number("amount")) / close, Fraction(1), (1, number("amount"))) if number("amount") < close else None
    if kind == "rights":
        k = number("new") / number("old")
        factor = min(Fraction(1), (close + k * number("price")) / (close * (1 + k)))
        return factor, Fraction(1), (1 / factor, 0)
    worth = number("new") / number("old") * number("value")
    return ((close - worth) / close, Fraction(1), (close / (close - worth), 0)) if worth < close else None


ORDER = {"split": 1, "bonus": 1, "dividend": 2, "spin-off": 3, "rights": 4}


def files():
    """The configuration, its symbols, and those of them that have minutes too."""
    hours = lambda parts: ", ".join(f'"{a}-{b}"' for a, b in parts)
    venue = f'code = "RNDX"\nname = "Random"\nzone = "{ZONE.key}"\n[[week]]\nfrom = "2024-01-01"\ndays = ["Mon", "Tue", "Wed", "Thu", "Fri"]\nhours = [{hours(FULL)}]\n'
    venue += "[short_days]\n" + "".join(f'{day} = {{ name = "Short", hours = [{hours(HALF)}] }}\n' for day in sorted(SHORT))
    venue += "[holidays]\n" + "".join(f'{day} = "Closed"\n' for day in sorted(HOLIDAYS))
    head = "symbol,name,kind,venue,currency,tick_size,multiplier,listed,last_traded,former\n"
    symbols = [f"R{n:04}" for n in range(SERIES)]
    several = symbols[:: max(1, SERIES // 40)]
    out = {
        "mizuno.toml": 'desk = "Random"\nlisten = "127.0.0.1:0"\n',
        "venues/rndx.toml": venue,
        "instruments/rndx.csv": head + "".join(f"{s},Random {s},share,RNDX,NZD,0.01,,,,\n" for s in symbols),
        "sources/shelf.toml": profile("", series("1d", "RNDX", "daily", "%Y-%m-%d"), series("1m", "RNDX", "minutes", "rfc3339")),
    }
    for name, interval, since, more in [("daily", "1d", DAYS[0], ""), ("minutes", "1m", AUTUMN[0], f"instruments = {json.dumps(several)}\n")]:
        out[f"collectors/{name}.toml"] = f'name = "{name}"\nsource = "shelf"\nvenue = "RNDX"\ninterval = "{interval}"\nsince = "{since}"\n{more}'
    return out, symbols, several


def near(a, b, scale):
    if a == "" or b is None:
        return (a == "") == (b is None)
    return abs(float(a) - b) <= 1e-12 * scale


def daily(base, symbol, bars, acts):
    """Cells compared, and those that differ, of one daily series."""
    dates = [day for day, *_ in bars]
    whole = sessions(*DAYS)
    place = {day: n for n, day in enumerate(whole)}
    steps, left = [], None
    counted = lambda on: next((day for day in whole if day >= on), None)
    for kind, terms, on in sorted((a for a in acts if counted(a[2])), key=lambda a: (counted(a[2]), ORDER[a[0]], a[2])):
        day = counted(on)
        before = [close for d, _, _, _, close, _ in bars if d < day]
        if day > dates[-1]:
            continue
        reference = left[1] if left and left[0] == day else (Fraction(before[-1], 100) if before else None)
        found = factors(kind, terms, reference)
        if found:
            steps.append((day, *found))
        left = (day, reference * found[0] if found and reference is not None else reference)
    factor = lambda day, at: math.prod((s[at] for s in steps if day < s[0]), start=Fraction(1))
    prices = [[Fraction(n, 100) * factor(b[0], 1) for n in b[1:5]] for b in bars]
    volumes = [b[5] * factor(b[0], 2) for b in bars]
    columns = "date,open,high,low,close,volume," + ",".join(EXACT + FLOATS)
    got = rows(base, f"/bars?instrument={symbol}&adjust=all&columns={columns}")
    if len(got) != len(bars):
        return len(bars), len(bars)
    wrong = cells = rises = falls = 0
    returns = []
    for at, row in enumerate(got):
        told = dict(zip(columns.split(","), row))
        open_, high, low, close = prices[at]
        want = {name: rounded(value, 6) for name, value in zip(["open", "high", "low", "close"], prices[at])} | {"volume": rounded(volumes[at], 0)}
        joined = at > 0 and place[dates[at]] == place[dates[at - 1]] + 1
        before = prices[at - 1][3] if joined else None
        change = None if before is None else close - before
        rises = rises + 1 if change is not None and change > 0 else 0
        falls = falls + 1 if change is not None and change < 0 else 0
        window = lambda n: range(at + 1 - n, at + 1) if at + 1 >= n else None
        want |= {
            "change": "" if change is None else rounded(change, 6),
            "gap": "" if before is None else rounded(open_ - before, 6),
            "range": rounded(high - low, 6),
            "rises": "" if before is None else str(rises),
            "falls": "" if before is None else str(falls),
            "lowest_10_of_low": rounded(min(prices[n][2] for n in window(10)), 6) if window(10) else "",
            "highest_10_of_high": rounded(max(prices[n][1] for n in window(10)), 6) if window(10) else "",
        }
        bad = [name for name, value in want.items() if told[name] != value]
        returns.append(None if before is None else float((close - before) / before))
        bar = bars[at]
        traded = (bar[2] + bar[3] + bar[4]) / 300
        shares, paid = Fraction(1), Fraction(0)
        for day, _, _, (more, cash) in (s for s in steps if at and dates[at - 1] < s[0] <= dates[at]):
            shares, paid = shares * more, paid + shares * more * cash
        closes = [float(prices[n][3]) for n in window(50)] if window(50) else None
        last = [returns[n] for n in window(20)] if window(20) else [None]
        mean = None if None in last else math.fsum(last) / 20
        floats = {
            "return": (returns[at], 1),
            "log_return": (None if before is None else math.log1p(returns[at]), 1),
            "total_return": (None if before is None else float((shares * bar[4] + 100 * paid - bars[at - 1][4]) / bars[at - 1][4]), 1),
            "typical": (float((high + low + close) / 3), float(high)),
            "turnover": (traded * bar[5], traded * bar[5]),
            "mean_20": (math.fsum(float(prices[n][3]) for n in window(20)) / 20 if window(20) else None, max(map(float, (prices[n][3] for n in window(20) or [at])))),
            "deviation_20_of_return": (None if mean is None else math.sqrt(math.fsum((x - mean) ** 2 for x in last) / 19), 1),
            "sum_5_of_volume": (math.fsum(float(volumes[n]) for n in window(5)) if window(5) else None, max(map(float, volumes[max(0, at - 4) : at + 1]))),
            "drawdown_50": (closes[-1] / max(closes) - 1 if closes else None, 1),
        }
        bad += [name for name, (value, scale) in floats.items() if not near(told[name], value, scale)]
        WRONG.extend((symbol, told["date"], name, told[name], want.get(name, floats.get(name))) for name in bad)
        wrong += len(bad)
        cells += len(want) + len(floats)
    for interval, key in [("1w", lambda d: d.isocalendar()[:2]), ("1mo", lambda d: (d.year, d.month))]:
        groups = {}
        for n, day in enumerate(dates):
            groups.setdefault(key(day), []).append(n)
        made = [[prices[g[0]][0], max(prices[n][1] for n in g), min(prices[n][2] for n in g), prices[g[-1]][3]] for g in groups.values()]
        coarse = rows(base, f"/bars?instrument={symbol}&adjust=all&interval={interval}&columns=open,high,low,close,volume")
        sums = [rounded(sum(volumes[n] for n in g), 0) for g in groups.values()]
        want = [[rounded(p, 6) for p in m] + [v] for m, v in zip(made, sums)]
        wrong += abs(len(want) - len(coarse)) + sum(a != b for x, y in zip(want, coarse) for a, b in zip(x, y))
        cells += 5 * len(want)
    return cells, wrong


def intraday(base, symbol, bars):
    """The same of bars made of minutes, which begin at the open of a session and anew after its break."""
    by = {at: bar for at, *bar in bars}
    wrong = cells = 0
    for interval, step in [("5m", 5), ("1h", 60)]:
        want = []
        for day in sessions(*AUTUMN) + sessions(*MINUTES):
            for stretch in minutes_of(day):
                for start in range(0, len(stretch), step):
                    held = [by[at] for at in stretch[start : start + step] if at in by]
                    if held:
                        traded = sum(b[4] for b in held)
                        paid = sum(Fraction(b[1] + b[2] + b[3], 300) * b[4] for b in held)
                        prices = [held[0][0], max(b[1] for b in held), min(b[2] for b in held), held[-1][3]]
                        stamp = stretch[start].astimezone(timezone.utc).strftime("%Y-%m-%dT%H:%M:%SZ")
                        want.append([stamp, *map(money, prices), str(traded), rounded(paid / traded, 6), str(len(held))])
        got = rows(base, f"/bars?instrument={symbol}&interval={interval}&made_from=1m&columns=time,open,high,low,close,volume,average_price,held")
        wrong += abs(len(want) - len(got)) + sum(a != b for x, y in zip(want, got) for a, b in zip(x, y))
        cells += 8 * len(want)
    return cells, wrong


def main():
    with room() as root:
        return checked(root)


def checked(root):
    config, symbols, several = files()
    configured(root, config)
    shelf, days, acts, fine = root / "data/shelf", {}, {}, {}
    dates = sessions(*DAYS)
    for symbol in symbols:
        bars = [(day, *bar) for day, bar in zip(dates, walk(len(dates))) if DICE.random() > 0.02]
        days[symbol], acts[symbol] = bars, [action(dates[5:]) for _ in range(DICE.randint(0, 8))]
        # Two that nobody could tell apart are one.
        acts[symbol] = [a for n, a in enumerate(acts[symbol]) if all(a[0] != b[0] or a[2] != b[2] for b in acts[symbol][:n])]
        written(shelf / f"daily/{symbol}.csv", [(day, *map(money, bar[:4]), bar[4]) for day, *bar in bars])
    for symbol in several:
        openings = [at for day in sessions(*AUTUMN) + sessions(*MINUTES) for stretch in minutes_of(day) for at in stretch]
        fine[symbol] = [(at.astimezone(timezone.utc), *bar) for at, bar in zip(openings, walk(len(openings))) if DICE.random() > 0.01]
        written(shelf / f"minutes/{symbol}.csv", [(at.isoformat(), *map(money, bar[:4]), bar[4]) for at, *bar in fine[symbol]])
    with serving(PROGRAM, root, "2025-04-12T00:00:00Z") as address:
        base = f"{address}/api/v1"
        for collector in ("daily", "minutes"):
            told(PROGRAM, address, "collect", collector)
        entered = [{"instrument": s, "kind": k, "terms": terms | {"ex_date": str(on)}} for s in symbols for k, terms, on in acts[s]]
        for start in range(0, len(entered), 200):
            body = json.dumps({"actions": entered[start : start + 200], "by": "mere", "reason": "random"}).encode()
            urllib.request.urlopen(urllib.request.Request(f"{base}/actions", body, {"Content-Type": "application/json"}))
        began, cells, wrong, odd = time.time(), 0, 0, []
        for symbol in symbols:
            c, w = daily(base, symbol, days[symbol], acts[symbol])
            cells, wrong = cells + c, wrong + w
            odd += [(symbol, "1d", w)] if w else []
        for symbol in several:
            c, w = intraday(base, symbol, fine[symbol])
            cells, wrong = cells + c, wrong + w
            odd += [(symbol, "1m", w)] if w else []
        print(f"{len(symbols)} daily series and {len(several)} of minutes, {len(entered)} actions, seed {SEED}: {cells} cells, {wrong} differ, in {time.time() - began:.0f} s")
        for what in WRONG[:20]:
            print(" ", *what)
        for symbol, interval, count in odd[:20]:
            print(f"  {symbol} {interval}: {count} cells; {acts[symbol]}")
        return 1 if wrong or not cells else 0


if __name__ == "__main__":
    sys.exit(main())
