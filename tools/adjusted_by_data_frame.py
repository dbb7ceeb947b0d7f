"""Adjusted prices, coarser bars and derived numbers of a running demo, worked out once more with pandas and exact fractions. Exact numbers are
compared to the last digit, others within 1e-12 of the largest number in their window. Ends with 1 where a cell differs. Used by `make check-by-data-frame`; the first argument is the address of the service."""

import io
import json
import math
import sys
import urllib.request
from decimal import Decimal
from fractions import Fraction

import pandas

from exact import rounded

BASE = sys.argv[1].rstrip("/") + "/api/v1"
DAILY = ["KBF", "OXB", "SME", "ALP", "PLV", "GRB", "LNT.B", "TEA", "RSB", "DNL", "OSP", "WIG", "HTH"]
MINUTES = ["QHC", "KBF", "MHN", "OXB"]
PRICES = ["open", "high", "low", "close"]


def get(path):
    return urllib.request.urlopen(BASE + path).read().decode()


def frame(path):
    return pandas.read_csv(io.StringIO(get(path)), dtype=str)


def factors(terms, close):
    """What prices and volumes before an action are multiplied by; None where it cannot be applied."""
    if terms[0] == "split":
        price = Fraction(int(terms[3]), int(terms[1]))
        return price, 1 / price
    if terms[0] in ("dividend", "special"):
        amount = Fraction(terms[1])
        if len(terms) > 2 and terms[2] != "NZD":
            if "at" not in terms:
                return None
            amount *= Fraction(terms[terms.index("at") + 1])
        return (close - amount) / close, Fraction(1)
    if terms[0] == "rights":
        k, paid = Fraction(int(terms[1]), int(terms[3])), Fraction(terms[6])
        return min(Fraction(1), (close + k * paid) / (close * (1 + k))), Fraction(1)
    if terms[0] == "spin-off":
        return (close - Fraction(int(terms[1]), int(terms[3])) * Fraction(terms[6].rstrip(","))) / close, Fraction(1)
    raise ValueError(terms)


def daily(symbol):
    """Cells that were compared, and those that differ."""
    actions = json.loads(get(f"/actions?instrument={symbol}"))["actions"]
    raw, adjusted = frame(f"/bars?instrument={symbol}"), frame(f"/bars?instrument={symbol}&adjust=all")
    dates = list(raw["date"])
    steps = []
    for action in actions:
        later = [date for date in dates if date >= action["ex_date"]]
        before = [date for date in dates if later and date < later[0]]
        if later and before:
            found = factors(action["terms"].split(), Fraction(raw["close"][len(before) - 1]))
            if found:
                steps.append((later[0], *found))
    wrong = 0
    for at, date in enumerate(dates):
        price, volume = Fraction(1), Fraction(1)
        for counts_on, p, v in steps:
            if date < counts_on:
                price, volume = price * p, volume * v
        wrong += sum(rounded(Fraction(raw[c][at]) * price, 6) != adjusted[c][at] for c in PRICES)
        wrong += rounded(Fraction(raw["volume"][at]) * volume, 0) != adjusted["volume"][at]
    days = adjusted.assign(date=pandas.to_datetime(adjusted["date"]), **{c: adjusted[c].map(Decimal) for c in PRICES})
    iso = days["date"].dt.isocalendar()
    weeks = days.groupby([iso["year"], iso["week"]]).agg({"open": "first", "high": "max", "low": "min", "close": "last"})
    mine = frame(f"/bars?instrument={symbol}&adjust=all&interval=1w")
    wrong += abs(len(weeks) - len(mine)) + sum(str(a) != b for c in PRICES for a, b in zip(weeks[c], mine[c]))
    return 5 * len(dates) + 4 * len(weeks), wrong


def minutes(symbol):
    """The same of bars of five minutes; the sessions of Aldermere begin at whole five minutes."""
    wall = "zone=Pacific/Auckland&stamp=wall"
    one = frame(f"/bars?instrument={symbol}&interval=1m&{wall}")
    five = frame(f"/bars?instrument={symbol}&interval=5m&{wall}&columns=time,open,high,low,close,volume,average_price,held")
    one = one.assign(**{c: one[c].map(Decimal) for c in PRICES}, traded=one["volume"].map(int))
    paid = [(Fraction(h) + Fraction(l) + Fraction(c)) / 3 * v for h, l, c, v in zip(one["high"], one["low"], one["close"], one["traded"])]
    groups = one.assign(paid=paid).groupby(pandas.to_datetime(one["time"]).dt.floor("5min"))
    made = groups.agg({"open": "first", "high": "max", "low": "min", "close": "last", "traded": "sum", "paid": "sum", "volume": "count"})
    wrong = abs(len(made) - len(five)) + sum(str(a) != b for c in PRICES for a, b in zip(made[c], five[c]))
    wrong += sum(str(a) != b for a, b in zip(made["traded"], five["volume"])) + sum(str(a) != b for a, b in zip(made["volume"], five["held"]))
    wrong += sum(rounded(p / t, 6) != b for p, t, b in zip(made["paid"], made["traded"], five["average_price"]))
    return 7 * len(made), wrong


NUMBERS = "change,range,gap,return,log_return,typical,turnover,mean_20,deviation_20_of_return,sum_5_of_volume,lowest_10_of_low,highest_10_of_high,drawdown_20,rises,falls,drawdown"


def runs(moves):
    """How many of these in a row up to each."""
    return moves.groupby((~moves).cumsum()).cumsum()


def derived(symbol):
    """Numbers worked out of daily bars as traded, over gaps too."""
    got = pandas.read_csv(io.StringIO(get(f"/bars?instrument={symbol}&across_gaps=bridged&columns=date,open,high,low,close,volume,{NUMBERS}")))
    o, h, l, c, v = (got[name] for name in ["open", "high", "low", "close", "volume"])
    before, change = c.shift(), c.diff()
    want = {
        "change": change, "range": h - l, "gap": o - before, "return": c / before - 1, "typical": (h + l + c) / 3,
        "log_return": (c / before).map(math.log), "turnover": (h + l + c) / 3 * v, "mean_20": c.rolling(20).mean(),
        "sum_5_of_volume": v.rolling(5).sum(), "lowest_10_of_low": l.rolling(10).min(), "highest_10_of_high": h.rolling(10).max(),
        "drawdown_20": c / c.rolling(20).max() - 1, "drawdown": c / c.cummax() - 1,
        # Two passes: pandas keeps a running sum of squares, which loses digits.
        "deviation_20_of_return": (c / before - 1).rolling(20).apply(lambda x: ((x - x.mean()) ** 2).sum() ** 0.5 / 19**0.5, raw=True),
        "rises": runs(change > 0).where(before.notna()), "falls": runs(change < 0).where(before.notna()),
    }
    wrong = 0
    for name, column in want.items():
        scale = {"sum_5_of_volume": v.max(), "turnover": (h * v).max()}.get(name, max(1.0, h.max()))
        wrong += int(((column - got[name]).abs() > 1e-12 * scale).sum() + (column.isna() != got[name].isna()).sum())
    return len(want) * len(got), wrong


counted = [(symbol, "1d", *daily(symbol)) for symbol in DAILY] + [(symbol, "5m", *minutes(symbol)) for symbol in MINUTES]
counted += [(symbol, "worked out", *derived(symbol)) for symbol in DAILY]
for symbol, interval, cells, wrong in counted:
    print(f"{symbol:6} {interval:10} {cells:6} cells, {wrong} differ")
sys.exit(any(wrong for *_, wrong in counted))
