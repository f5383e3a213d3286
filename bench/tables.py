"""Writing a series of 750,000 rows in every format, beside what its library takes for the cells."""

import argparse
import statistics
import tempfile
import time
from pathlib import Path

import numpy as np
import xlsxwriter

from bavlo.tables.formats import Companions, format_of
from bavlo.tables.schema import SERIES

REGIONS, PERIODS = 3125, 240


def made():
    """A table as `bavlo series` makes it."""
    rng = np.random.default_rng(4)
    labels = [f"{2001 + n // 12}-{n % 12 + 1:02d}" for n in range(PERIODS)]
    return SERIES.table(
        {
            "region": [f"Region {n}" for n in range(REGIONS)],
            "period": labels,
            "start": [f"{label}-01" for label in labels],
            "end": [f"{label}-28" for label in labels],
            "variable": "rain",
            "measure": ["mean"],
            "value": rng.gamma(2, 40, (REGIONS, PERIODS, 1)),
            "unit": ["mm"],
            "combine": "total",
            "order": ["region"],
            "area_valid": np.ones((REGIONS, PERIODS, 1)),
            "steps": np.full((REGIONS, PERIODS), 30.0),
            "steps_expected": np.full(PERIODS, 30.0),
            "note": np.full((REGIONS, PERIODS, 1), "", object),
        }
    )


def plain_sheet(table, path):
    """The same cells by the library and nothing else."""
    book = xlsxwriter.Workbook(str(path), {"constant_memory": True})
    sheet, row = book.add_worksheet(), 0
    for chunk in table.chunks():
        for values in zip(*(column.tolist() for column in chunk), strict=True):
            for n, value in enumerate(values):
                if isinstance(value, float):
                    sheet.write_number(row, n, value)
                elif value:
                    sheet.write_string(row, n, value)
            row += 1
    book.close()


def timed(work):
    """Seconds that a call takes."""
    began = time.perf_counter()
    work()
    return time.perf_counter() - began


def main():
    """Print a row for each format."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--runs", type=int, default=3)
    runs = parser.parse_args().runs
    table = made()
    print(f"{len(table):,} rows")
    with tempfile.TemporaryDirectory() as folder:
        for ending in (".csv", ".parquet", ".json", ".xlsx"):
            path = Path(folder) / f"t{ending}"
            module = format_of(path)
            found = statistics.median(
                timed(lambda path=path, module=module: module.write_file(table, path, Companions()))
                for _ in range(1 if ending == ".xlsx" else runs)
            )
            print(f"{ending}: {found:.1f} s, {path.stat().st_size / 1e6:.0f} MB")
        plain = timed(lambda: plain_sheet(table, Path(folder) / "plain.xlsx"))
        print(f"the cells alone by the spreadsheet library: {plain:.1f} s")


if __name__ == "__main__":
    main()
