"""A service of the program with made-up bars from a folder, for scripts that work its answers out once more."""

import contextlib
import csv
import io
import pathlib
import subprocess
import tempfile
import urllib.request
from datetime import datetime, timezone


def money(cents):
    sign, cents = "-" if cents < 0 else "", abs(cents)
    return f"{sign}{cents // 100}.{cents % 100:02}"


def written(path, rows, *more):
    """A file of bars with their volumes, and what else stands behind these."""
    path.parent.mkdir(parents=True, exist_ok=True)
    with path.open("w", newline="") as file:
        out = csv.writer(file)
        out.writerow(["at", "o", "h", "l", "c", "v", *more])
        out.writerows(rows)


def series(interval, venue, folder, stamp, more=""):
    """The part of a profile that reads bars of an interval from a folder."""
    return f"""[[series]]
interval = "{interval}"
venues = ["{venue}"]
adjusted = "no"
any_price = true
delay = "1m"
span_days = 4000
[[series.request]]
get = "/{folder}/{{symbol}}.csv"
[series.answer]
form = "delimited"
columns = {{ time = "at", open = "o", high = "h", low = "l", close = "c", volume = "v"{more} }}
stamp = "{stamp}"
"""


def profile(more, *parts):
    limits = "[limits]\ncalls_per_minute = 60000\nburst = 1000\nat_once = 4\n"
    return f'name = "shelf"\ntitle = "Shelf"\nbase = "folder:shelf"\n{limits}{more}{"".join(parts)}'


def configured(root, files):
    for path, text in files.items():
        (root / "config" / path).parent.mkdir(parents=True, exist_ok=True)
        (root / "config" / path).write_text(text)


@contextlib.contextmanager
def room():
    """A directory of its own that goes when it is left."""
    root = pathlib.Path(tempfile.mkdtemp(prefix="random-world-"))
    try:
        yield root
    finally:
        subprocess.run(["rm", "-rf", root])


@contextlib.contextmanager
def serving(program, root, instant):
    """The service at work on `root`, its clock at an instant: its address."""
    clock = f"{instant}@{datetime.now(timezone.utc):%Y-%m-%dT%H:%M:%SZ}x1"
    command = [program, "serve", "--config", root / "config", "--data", root / "data", "--listen", "127.0.0.1:0", "--clock", clock]
    service = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    try:
        yield service.stdout.readline().split()[-1]
    finally:
        service.terminate()
        service.wait()


def told(program, address, *words):
    """Runs a command of the client."""
    return subprocess.run([program, "--service", address, *words], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


def ask(base, path):
    return urllib.request.urlopen(base + path).read().decode()


def rows(base, path):
    return list(csv.reader(io.StringIO(ask(base, path))))[1:]
