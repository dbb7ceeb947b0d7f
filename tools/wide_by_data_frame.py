"""The wide file of many instruments as practitioners make it: a CSV file an instrument and source, the better source first,
joined on the date. Prints the seconds it took, reading and writing included. Used by `make bench-data-frame`."""

import pathlib
import sys
import time

import pandas

folder, out = pathlib.Path(sys.argv[1]), pathlib.Path(sys.argv[2])
began = time.perf_counter()
columns = {}
for path in sorted((folder / "first").glob("*.csv")):
    first = pandas.read_csv(path, index_col="date", parse_dates=True)["close"]
    second = pandas.read_csv(folder / "second" / path.name, index_col="date", parse_dates=True)["close"]
    columns[path.stem] = first.combine_first(second)
pandas.DataFrame(columns).sort_index().to_csv(out)
print(time.perf_counter() - began)
