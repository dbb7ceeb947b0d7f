"""Questions as SQL, asked of engines that read a published edition, held against Mizuno's own answers row by row. Numbers are compared to the last
digit. DataFusion reads from the stand-in of an object storage, DuckDB a copy of the edition; Spark too, where pyspark is installed. Ends with 1
where a row differs. Used by `make check-sql`; the argument is the program."""

import csv
import datetime
import io
import json
import os
import socket
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.parse
import urllib.request
from decimal import Decimal

PROGRAM = os.path.abspath(sys.argv[1])
SPEC = "every-bar"

QUESTIONS = [
    {"instruments": "KBF", "from": "2025-03-03", "to": "2025-04-08"},
    {"side": "trade", "instruments": "*"},
    {"side": "trade", "instruments": "*,KBF", "last": "5", "columns": "instrument,date,close,volume,source"},
    {"instruments": "O*,K*F,TEA", "from": "2024-01-01"},
    {"instruments": "OXB,KBF", "this": "year", "names": "close:Close,date:Day", "columns": "instrument,date,close"},
    {"side": "trade", "instruments": "*", "adjust": "all"},
    {"side": "trade", "instruments": "*", "adjust": "splits"},
    {"side": "trade", "instruments": "*", "adjust": "all", "anchor": "oldest", "from": "2020-01-01"},
    {"instruments": "KBF,OXB,GRB,PLV,HTH,SME", "adjust": "all", "columns": "instrument,date,close,raw_close,price_factor,volume_factor"},
    {"side": "trade", "instruments": "*", "adjust": "all", "round": "2", "from": "2018-06-01"},
    {"side": "trade", "instruments": "*", "round": "1", "from": "2024-06-01"},
    {"universe": "aldermere-12", "from": "2024-01-01", "columns": "instrument,date,close,source"},
    {"universe": "aldermere-12", "members": "whole", "from": "2025-01-06", "to": "2025-03-31", "columns": "instrument,date,close"},
    {"universe": "aldermere-12", "instruments": "AL12,KBF", "adjust": "all", "columns": "instrument,date,close"},
    {"universe": "study", "from": "2019-01-01", "columns": "instrument,date,close,volume"},
    {"side": "trade", "instruments": "*", "interval": "1w", "columns": "instrument,date,open,high,low,close,volume,source,held"},
    {"side": "trade", "instruments": "*", "interval": "1mo", "adjust": "all", "label": "last", "columns": "instrument,date,open,high,low,close,volume"},
    {"instruments": "KBF,OXB,SME", "interval": "1q", "from": "2021-02-10", "to": "2024-11-15", "columns": "instrument,date,open,close"},
    {"side": "trade", "instruments": "*", "interval": "1y", "adjust": "splits", "columns": "instrument,date,high,low,volume"},
    {"universe": "aldermere-12", "interval": "1mo", "from": "2024-01-15", "columns": "instrument,date,open,high,low,close,volume,held"},
    {"instruments": "KBF", "interval": "1m", "last": "2"},
    {"side": "trade", "instruments": "*", "interval": "1m", "from": "2025-04-07T22:30:00Z", "to": "2025-04-09T01:10:00Z"},
    {"side": "trade", "instruments": "*", "interval": "1m", "this": "month", "adjust": "all", "columns": "instrument,trade_date,time,close,volume"},
    {"side": "trade", "instruments": "*", "interval": "5m", "from": "2025-04-02", "columns": "instrument,time,open,high,low,close,volume,held"},
    {"instruments": "KBF,OXB,TRN", "interval": "7m", "made_from": "1m", "columns": "instrument,trade_date,time,close,held"},
    {"instruments": "KBF,OXB,QHC", "interval": "1h", "adjust": "all", "columns": "instrument,time,open,high,low,close,volume,source"},
    {"side": "trade", "instruments": "*", "interval": "1d", "made_from": "1m", "columns": "instrument,date,open,high,low,close,volume,held,source"},
    {"instruments": "KBF,OXB,QHC", "interval": "1w", "made_from": "1m", "adjust": "all", "columns": "instrument,date,open,high,low,close,volume"},
    {"side": "trade", "instruments": "*", "where": "close > open,volume >= 100000,high != 2.05", "from": "2023-01-01"},
    {"side": "trade", "instruments": "*", "where": "close < 1.5", "adjust": "all", "columns": "instrument,date,open,close"},
    {"side": "trade", "instruments": "*", "interval": "1mo", "where": "close > open,volume > 1000000", "columns": "instrument,date,open,close,volume"},
    {"instruments": "BLY-*,TDP-*", "columns": "instrument,date,close,volume,open_interest", "where": "open_interest > 1000"},
    {"instruments": "BLY-*,TDP-*", "interval": "1w", "adjust": "all", "columns": "instrument,date,close,open_interest,held"},
]

REFUSED = [
    ({"instruments": "KBF", "layout": "wide"}, "layout"),
    ({"instruments": "KBF", "columns": "date,return"}, "return is not translated"),
    ({"instruments": "KBF", "where": "close > mean_200"}, "mean_200 is not translated"),
    ({"instruments": "KBF", "where": "close crosses above open"}, "looks at the row before"),
    ({"instruments": "KBF", "source": "lodestar"}, "source"),
    ({"instruments": "KBF", "zone": "Pacific/Auckland", "missing": "rows"}, "missing"),
    ({"instruments": "KBF", "adjust": "all", "anchor": "2025-01-02"}, "anchor"),
    ({"instruments": "KBF", "as_of": "2025-03-01T00:00:00Z"}, "as_of"),
    ({"instruments": "KBF", "interval": "5m", "align": "Pacific/Auckland"}, "align"),
    ({"instruments": "bly-front"}, "continuous series"),
    ({"instruments": "KBF", "interval": "5m", "incomplete": "dropped"}, "incomplete"),
    ({"instruments": "*"}, "say side=trade"),
    ({"universe": "traded-shares"}, "write traded-shares into"),
]


def free_port():
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        return s.getsockname()[1]


class Service:
    """A demo of its own, that ends with the script."""

    def __init__(self, folder):
        self.base = f"http://127.0.0.1:{free_port()}"
        self.log = open(os.path.join(folder, "demo.log"), "w+")
        command = [PROGRAM, "demo", "--data", os.path.join(folder, "demo"), "--listen", self.base[7:], "--source-port", "0"]
        self.process = subprocess.Popen(command, stdout=self.log, stderr=self.log)

    def ask(self, path, query=None, body=None):
        address = f"{self.base}/api/v1{path}" + ("?" + urllib.parse.urlencode(query) if query else "")
        data = json.dumps(body).encode() if body is not None else None
        request = urllib.request.Request(address, data, {"Content-Type": "application/json"} if data else {})
        with urllib.request.urlopen(request) as answer:
            return answer.read().decode()

    def settle(self):
        """Waits until the first run of every collector has ended."""
        until = time.time() + 180
        while time.time() < until:
            time.sleep(2)
            try:
                first = {run["collector"]: run["state"] for run in json.loads(self.ask("/runs"))}
                if len(first) >= 11 and "running" not in first.values():
                    return
            except OSError:
                pass
        raise SystemExit("the demo has not come to rest in three minutes")

    def edition(self):
        self.ask(f"/editions/{SPEC}", body={"by": "mere"})
        until = time.time() + 180
        while time.time() < until:
            time.sleep(1)
            made = json.loads(self.ask(f"/editions/{SPEC}"))[0]
            if made.get("published"):
                return made
        raise SystemExit("the edition was not published in three minutes")


def value(cell):
    """A cell, as one thing whoever wrote it."""
    if cell is None or cell == "":
        return None
    if isinstance(cell, datetime.datetime):
        return (cell if cell.tzinfo is None else cell.astimezone(datetime.timezone.utc).replace(tzinfo=None)).isoformat()
    if isinstance(cell, datetime.date):
        return cell.isoformat()
    if isinstance(cell, (int, Decimal)):
        return Decimal(cell).normalize()
    try:
        return Decimal(cell).normalize()
    except ArithmeticError:
        pass
    if cell.endswith("Z") and "T" in cell:
        return datetime.datetime.fromisoformat(cell[:-1]).isoformat()
    return cell


def rows(all):
    return sorted((tuple(value(cell) for cell in row) for row in all), key=lambda row: [(str(type(c)), c) if c is not None else ("", "") for c in row])


def statements(text):
    return [part for part in text.split(";\n") if part.strip()]


class DataFusion:
    """Reads the object storage."""

    word, place = "datafusion", None

    def __init__(self, declared, keys, endpoint, bucket):
        from datafusion import SessionContext
        from datafusion.object_store import AmazonS3

        self.context = SessionContext()
        store = AmazonS3(bucket, region="us-east-1", endpoint=endpoint, allow_http=True, access_key_id=keys[0], secret_access_key=keys[1])
        self.context.register_object_store("s3://", store, bucket)
        for statement in statements(declared):
            self.context.sql(statement).collect()

    def ask(self, sql):
        frame = self.context.sql(sql).to_arrow_table()
        return [tuple(row.values()) for row in frame.to_pylist()]


class DuckDb:
    """Reads a copy."""

    word = "duckdb"

    def __init__(self, declared, *_):
        import duckdb

        self.connection = duckdb.connect()
        self.connection.execute("SET TimeZone = 'UTC'")
        for statement in statements(declared):
            self.connection.execute(statement)

    def ask(self, sql):
        return self.connection.execute(sql).fetchall()


class Spark:
    """Reads a copy."""

    word = "spark"

    def __init__(self, declared, *_):
        from pyspark.sql import SparkSession

        folder = tempfile.mkdtemp()
        build = SparkSession.builder.master("local[2]").config("spark.sql.session.timeZone", "UTC").config("spark.ui.enabled", "false")
        build = build.config("spark.sql.catalogImplementation", "in-memory").config("spark.driver.bindAddress", "127.0.0.1")
        build = build.config("spark.driver.host", "127.0.0.1").config("spark.sql.warehouse.dir", folder).config("spark.sql.shuffle.partitions", "2")
        os.environ["TZ"] = "UTC"
        time.tzset()
        self.session = build.getOrCreate()
        self.session.sparkContext.setLogLevel("ERROR")
        for statement in statements(declared):
            self.session.sql(statement)

    def ask(self, sql):
        return [tuple(row) for row in self.session.sql(sql.strip().rstrip(";")).collect()]


def storage_of(folder):
    """The address of the storage that a demo publishes to, and the keys to it."""
    config = os.path.join(folder, "demo", "config")
    env = dict(line.strip().split("=", 1) for line in open(os.path.join(config, ".env")) if "=" in line)
    spec = open(os.path.join(config, "editions", f"{SPEC}.toml")).read()
    endpoint = next(line.split('"')[1] for line in spec.splitlines() if line.startswith("endpoint"))
    return endpoint, (env["AWS_ACCESS_KEY_ID"], env["AWS_SECRET_ACCESS_KEY"])


def engines(service, made, folder):
    copy = os.path.join(folder, "copy")
    subprocess.run([PROGRAM, "editions", f"{SPEC}/{made['number']}", "--copy", copy, "--service", service.base], check=True, capture_output=True)
    endpoint, keys = storage_of(folder)
    found = [DataFusion, DuckDb]
    try:
        import pyspark  # noqa: F401

        found.append(Spark)
    except ImportError:
        pass
    for engine in found:
        query = {"engine": engine.word}
        if engine is not DataFusion:
            query["place"] = os.path.join(copy, "current")
        declared = service.ask(f"/editions/{SPEC}/{made['number']}/tables", query)
        yield engine(declared, keys, endpoint, "tarn-street")


def asked(service, made):
    """Each question with Mizuno's own rows."""
    for question in QUESTIONS:
        try:
            text = service.ask("/bars", {**question, "as_of": made["as_of"], "format": "csv"})
        except urllib.error.HTTPError as error:
            raise SystemExit(f"{question}: {error.read().decode()}")
        yield question, list(csv.reader(io.StringIO(text)))


def check(service, folder):
    service.settle()
    made = service.edition()
    called = f"{SPEC}/{made['number']}"
    print(f"{called}, as of {made['as_of']}, published to {made['published']['to']}\n")
    answers, wrong = list(asked(service, made)), 0
    for engine in engines(service, made, folder):
        asked_rows, began = 0, time.time()
        for question, (header, *own) in answers:
            told = " ".join(f"{key}={value}" for key, value in question.items())
            try:
                sql = service.ask("/translation", {**question, "edition": called, "engine": engine.word})
                given = engine.ask(sql)
            except urllib.error.HTTPError as error:
                wrong += 1
                print(f"{engine.word}: {told}: refused: {error.read().decode()}")
                continue
            except Exception as error:
                wrong += 1
                print(f"{engine.word}: {told}: {str(error)[:600]}\n{sql}")
                continue
            own, given = rows(own), rows(given)
            asked_rows += len(own)
            if not own:
                wrong += 1
                print(f"{engine.word}: {told}: no rows, so nothing is shown by it")
            if own != given:
                wrong += 1
                here, there = set(own), set(given)
                lacks, more = [r for r in own if r not in there], [r for r in given if r not in here]
                print(f"{engine.word}: {told}: {len(own)} rows here, {len(given)} there; {len(lacks)} lack, {len(more)} are others")
                print(f"  {header}\n  here  {lacks[:3]}\n  there {more[:3]}")
        print(f"{engine.word}: {len(answers)} questions, {asked_rows} rows, {time.time() - began:.1f} s")
    for question, why in REFUSED:
        try:
            sql = service.ask("/translation", {**question, "edition": called})
            print(f"not refused: {question}\n{sql}")
            wrong += 1
        except urllib.error.HTTPError as error:
            told = json.loads(error.read().decode())["detail"]
            if why not in told:
                wrong += 1
                print(f"{question} is refused without `{why}`: {told}")
    print(f"{len(REFUSED)} questions refused by name")
    print("all rows are the same" if wrong == 0 else f"{wrong} differ")
    return wrong == 0


def check_together(first, second, first_folder, second_folder):
    """A second service publishes beside the first, under a name of its own, and one view shows the bars of both."""
    second.settle()
    endpoint, keys = storage_of(first_folder)
    path = os.path.join(second_folder, "demo", "config", "editions", f"{SPEC}.toml")
    spec = open(path).read().replace(storage_of(second_folder)[0], endpoint).replace('writer = "tarn-street"', 'writer = "corran"')
    spec = spec.replace('name = "bars"', 'name = "bars_corran"\ninstruments = ["BLY-*", "TDP-*"]')
    with open(path, "w") as file:
        file.write(spec)
    subprocess.run([PROGRAM, "reload", "--service", second.base], check=True, capture_output=True)
    made = [json.loads(first.ask(f"/editions/{SPEC}"))[0], second.edition()]
    engine, own = None, []
    for service, edition, instruments in zip([first, second], made, ["*", "BLY-*,TDP-*"]):
        declared = service.ask(f"/editions/{SPEC}/{edition['number']}/tables", {"engine": "datafusion"})
        if engine is None:
            engine = DataFusion(declared, keys, endpoint, "tarn-street")
        else:
            for statement in statements(declared):
                engine.context.sql(statement).collect()
        question = {"side": "trade", "instruments": instruments, "columns": "instrument,date,open,close,volume,source"}
        text = service.ask("/bars", {**question, "as_of": edition["as_of"], "format": "csv"})
        own += list(csv.reader(io.StringIO(text)))[1:]
    engine.context.sql("CREATE VIEW together AS SELECT * FROM bars UNION ALL SELECT * FROM bars_corran").collect()
    given = engine.ask("SELECT instrument, trade_date, open, close, volume, source FROM together WHERE \"interval\" = '1d'")
    places = sorted(edition["published"]["to"] for edition in made)
    same = rows(own) == rows(given)
    print(f"together, from {' and '.join(places)}: {len(given)} rows, {'the same' if same else 'others'} as both give")
    return same and len(set(places)) == 2


def main():
    with tempfile.TemporaryDirectory() as one, tempfile.TemporaryDirectory() as other:
        services = [Service(one), Service(other)]
        try:
            sound = check(services[0], one) and check_together(*services, one, other)
        finally:
            for service in services:
                service.process.terminate()
                service.process.wait()
        sys.exit(0 if sound else 1)


main()
