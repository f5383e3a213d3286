"""Grids, regions and overlays made for tests, and the installed program."""

import contextlib
import csv
import io
import subprocess
import sys
from importlib import import_module
from pathlib import Path
from unittest import mock

import netCDF4
import numpy as np
import shapely

from bavlo.cli.main import main
from bavlo.core.reduce.period_state import StepWeights
from bavlo.core.space.overlay import Overlay
from bavlo.core.time.assignment import assign_steps
from bavlo.core.time.axis import DAY, to_instant
from bavlo.core.time.periods import PeriodRule, periods_between
from bavlo.core.time.steps import time_axis
from bavlo.engine.memory import in_use
from bavlo.engine.protocol import not_needed
from bavlo.engine.threads import Threads
from bavlo.regions.vector import Features, write
from bavlo.request.filling import make_request
from bavlo.request.reporter import SilentReporter
from bavlo.tables import csv as csv_table

PROGRAM = Path(sys.executable).with_name("bavlo")


def program(*arguments, cwd=None, check=True):
    """Run the installed program in a process of its own."""
    done = subprocess.run(
        [str(PROGRAM), *map(str, arguments)], cwd=cwd, capture_output=True, text=True, check=False
    )
    if check:
        assert done.returncode == 0, done.stderr
    return done


FRESH = 150 * 2**20  # bytes that the program holds when it has started


def run(*arguments, cwd=None, check=True):
    """Run a command line in this process, with what it said and its exit status.

    What other tests left in memory does not count as the program's.
    """
    said, warned = io.StringIO(), io.StringIO()
    left = in_use()

    def own():
        return FRESH + max(0, in_use() - left)

    with (
        mock.patch("bavlo.engine.memory.in_use", own),
        contextlib.redirect_stdout(said),
        contextlib.redirect_stderr(warned),
        contextlib.chdir(cwd or "."),
    ):
        try:
            status = main([str(argument) for argument in arguments])
        except SystemExit as end:  # --help
            status = end.code or 0
    if check:
        assert status == 0, warned.getvalue()
    return subprocess.CompletedProcess(arguments, status, said.getvalue(), warned.getvalue())


def rows(command, grids, regions, **options):
    """Rows of a command's table, as plain text by column."""
    grids = grids if isinstance(grids, list) else [grids]
    given = {"grids": list(map(str, grids)), "regions": str(regions), **options}
    function = getattr(import_module(f"bavlo.jobs.{command}"), command)
    result = function(make_request(command, given), SilentReporter())
    text = io.StringIO()
    csv_table.write(result.table, text)
    return list(csv.DictReader(text.getvalue().splitlines()))


def write_grid(
    path,
    values,
    *,
    name="rain",
    unit="mm",
    since="days since 2001-01-01",
    stamps=None,
    calendar="standard",
    lon=None,
    lat=None,
    bounds=None,
    attributes=(),
    time=True,
    **storage,
):
    """A small NetCDF grid; `values` is (T, ny, nx), on 1-degree cells from 0, 0 by default."""
    values = np.asarray(values)
    ny, nx = values.shape[-2:]
    lon = np.arange(nx) + 0.5 if lon is None else lon
    lat = np.arange(ny) + 0.5 if lat is None else lat
    with netCDF4.Dataset(path, "a" if path.exists() else "w") as data:
        if "lat" not in data.dimensions:
            for axis, centres, unit_of in (
                ("lat", lat, "degrees_north"),
                ("lon", lon, "degrees_east"),
            ):
                data.createDimension(axis, len(centres))
                data.createVariable(axis, "f8", (axis,))[:] = centres
                data[axis].units = unit_of
            if time:
                data.createDimension("time", None)
                variable = data.createVariable("time", "f8", ("time",))
                variable.units, variable.calendar = since, calendar
                variable[:] = np.arange(len(values)) if stamps is None else stamps
                if bounds is not None:
                    data.createDimension("nv", 2)
                    data["time"].bounds = "time_bnds"
                    data.createVariable("time_bnds", "f8", ("time", "nv"))[:] = bounds
        dims = ("time", "lat", "lon") if time else ("lat", "lon")
        stored = data.createVariable(name, values.dtype, dims, **storage)
        if unit:
            stored.units = unit
        for key, value in dict(attributes).items():
            setattr(stored, key, value)
        stored[:] = values
    return path


def write_regions(path, shapes, *, crs="OGC:CRS84", **fields):
    """Polygons by name, as GeoJSON; further fields by keyword."""
    columns = {"name": np.array(list(shapes), object)} if shapes else {}
    columns |= {key: np.array(values) for key, values in fields.items()}
    features = Features(np.array(list(shapes.values())), columns, crs, "GeoJSON", path.stem)
    write(path, features, "Unknown")
    return path


def box(west, south, east, north):
    """A rectangle whose sides are not cut into pieces."""
    return shapely.box(west, south, east, north)


def some_overlay(rng, regions, cells):
    """Regions of random cells with random weights; the last region has none."""
    fraction = rng.uniform(0.01, 1, (regions, cells)) * (rng.random((regions, cells)) < 0.6)
    fraction[-1] = 0
    fraction[:-1, 0] = 0.5
    indptr = np.concatenate([[0], np.cumsum((fraction > 0).sum(axis=1))])
    index = np.nonzero(fraction)[1].astype(np.int32)
    shared = fraction[fraction > 0]
    weight = shared * 100
    total = np.array([w.sum() for w in np.split(weight, indptr[1:-1])])
    return Overlay((1, cells), np.arange(cells), indptr, index, shared, weight, total)


def daily(count, first=(2001, 1, 1)):
    return time_axis(to_instant("standard", *first) + DAY * np.arange(count), None, "standard")


def step_weights_of(time, every, amount=None):
    periods = periods_between(PeriodRule(every), "standard", int(time.start[0]), int(time.end[-1]))
    days = time.duration / DAY
    return StepWeights(
        assign_steps(time, periods, may_share=True),
        np.ones(len(time)) if amount is None else amount,
        days,
        days,
        (periods.end - periods.start) / DAY,
    )


def reduced(reducer, segments, values, jobs=1):
    """What threads settle of a whole record (T, C) that is there as an array."""

    class Reader:
        def read(self, block):
            return values[block.first : block.last]

        def files(self, first, last):
            return "an array"

    threads = Threads(jobs, 0, not_needed, not_needed)
    return list(threads.reduce(Reader(), reducer, segments))
