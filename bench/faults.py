"""Damaged inputs: what a command makes of each, `python bench/faults.py 10000`.

Small files of many formats are damaged one way or another. Each is read by a process of its own,
forked from one that has the libraries loaded, with a limit of time and memory, and what comes of it
is sorted into clean errors, the same answer, another answer with or without a warning, faults that
only the last net caught, hangs and crashes. Kills at random moments come after that.
"""

import argparse
import collections
import contextlib
import gzip
import json
import os
import random
import resource
import shutil
import signal
import sys
import tempfile
import time
import zipfile
from pathlib import Path

import netCDF4
import numpy as np
import rasterio
from rasterio.transform import from_origin

from bavlo.cli.main import main as bavlo
from bavlo.errors import InputError
from bavlo.grids.formats import grib
from bavlo.grids.formats.grib_messages import library
from bavlo.kept import OVERLAY
from bavlo.regions import cache

SECONDS, MEMORY = 20, 4 * 2**30  # the latter besides what libraries map
CLEAN, SAME, WARNED, SILENT = "clean error", "same answer", "other, warned", "silent"
FAULT, HANG, CRASH = "fault", "hang", "crash"
OUTCOMES = (CLEAN, SAME, WARNED, SILENT, FAULT, HANG, CRASH)
SENT = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
BAD = (FAULT, HANG, CRASH)
DAYS, ROWS, COLUMNS = 40, 9, 12
STUDY = """
[grids]
rain = "four.nc"
[regions]
file = "r.geojson"
[[result]]
name = "monthly"
command = "series"
grids = "rain"
every = "month"
out = "o.csv"
"""
TOKENS = (b"0", b"-1", b"1e308", b"nan", b"999999999999", b"null", b"\xff\xfe", b"", b"[", b'"')


def make(folder):
    """The whole inputs, by name, each with the words of the command that reads it."""
    rng = np.random.default_rng(7)
    rain = np.round(rng.gamma(0.5, 8, (DAYS, ROWS, COLUMNS)), 1).astype("f4")
    rain[:, :2, :2] = -9999
    regions = {
        "a": [[1, 1], [6, 1], [6, 5], [1, 5], [1, 1]],
        "b": [[5, 2], [11, 3], [10, 8], [5, 8], [5, 2]],
    }
    features = [
        {
            "type": "Feature",
            "properties": {"name": name, "code": n},
            "geometry": {"type": "Polygon", "coordinates": [ring]},
        }
        for n, (name, ring) in enumerate(regions.items())
    ]
    (folder / "r.geojson").write_text(
        json.dumps({"type": "FeatureCollection", "features": features})
    )
    for name, form, settings in (
        ("four.nc", "NETCDF4", {"zlib": True, "chunksizes": (1, ROWS, COLUMNS)}),
        ("sums.nc", "NETCDF4", {"fletcher32": True, "chunksizes": (10, ROWS, COLUMNS)}),
        ("classic.nc", "NETCDF3_CLASSIC", {}),
    ):
        with netCDF4.Dataset(folder / name, "w", format=form) as data:
            for axis, centres, unit in (
                ("time", np.arange(DAYS), "days since 2001-01-01"),
                ("lat", np.arange(ROWS) + 0.5, "degrees_north"),
                ("lon", np.arange(COLUMNS) + 0.5, "degrees_east"),
            ):
                data.createDimension(axis, len(centres))
                data.createVariable(axis, "f8", (axis,))[:] = centres
                data[axis].units = unit
            variable = data.createVariable(
                "rain", "f4", ("time", "lat", "lon"), fill_value=-9999, **settings
            )
            variable.units, variable.cell_methods = "mm", "time: sum"
            variable[:] = rain
    profile = {
        "driver": "GTiff", "width": COLUMNS, "height": ROWS, "count": 1, "dtype": "float32",
        "crs": "EPSG:4326", "transform": from_origin(0, ROWS, 1, 1), "nodata": -9999,
    }  # fmt: skip
    for name, more in (("deflate.tif", {"compress": "deflate"}), ("plain.tif", {})):
        with rasterio.open(folder / name, "w", **profile, **more) as file:
            file.write(rain[0], 1)
    made = [*write_grib(folder / "rain.grib", rain), *write_zarr(folder / "rain.zarr", rain)]
    (folder / "classic.nc.gz").write_bytes(gzip.compress((folder / "classic.nc").read_bytes()))
    with gzip.open(folder / "plain.tif.gz", "wb") as file:
        file.write((folder / "plain.tif").read_bytes())
    head = f"ncols {COLUMNS}\nnrows {ROWS}\nxllcorner 0\nyllcorner 0\ncellsize 1\n"
    lines = [" ".join(f"{v:g}" for v in row) for row in rain[0]]
    (folder / "grid.asc").write_text(head + "NODATA_value -9999\n" + "\n".join(lines) + "\n")
    (folder / "points.csv").write_text("name,lon,lat\np,3.2,4.1\nq,7.5,5.5\n")
    stated = ["--kind", "amount", "--input-unit", "mm"]
    of_grid = ["--regions", "r.geojson", "--every", "month", "--out", "o.csv"]
    raster = ["--regions", "r.geojson", *stated, "--input-crs", "EPSG:4326", "--out", "o.csv"]
    cases = {n: ["series", n, *of_grid] for n in ("four.nc", "sums.nc", "classic.nc")}
    cases |= {n: ["series", n.partition("/")[0], *of_grid, *stated] for n in made}
    rasters = ("deflate.tif", "plain.tif", "plain.tif.gz", "grid.asc")
    cases |= {n: ["series", n, *raster] for n in rasters}
    here = ["--every", "month", "--out", "o.csv"]

    (folder / "study.toml").write_text(STUDY)
    os.environ["BAVLO_CACHE"] = str(folder / "cache")
    cache.WORTH = cache.SMALL = grib.WORTH_KEEPING = 0  # every overlay and index is kept
    with contextlib.chdir(folder):
        for name in ("t.csv", "t.json", "t.xlsx", "t.parquet", "t.nc", "t.shp.zip", "t.gpkg"):
            words = ["series", "four.nc", "--regions", "r.geojson", "--every", "month"]
            assert bavlo([*words, "--out", name, "--quiet"]) == 0
        assert bavlo(["run", "study.toml", "--quiet"]) == 0
        if "rain.grib" in cases:
            assert bavlo([*cases["rain.grib"], "--quiet", "--replace"]) == 0
    others = write_regions(folder, regions)
    for name in ("r.geojson", "points.csv", "t.shp.zip", "t.gpkg", *others):
        label = [] if name == "points.csv" else ["--label", "name"]
        named = ["--label", "Name"] if name == "r.kml" else label
        cases[name] = ["series", "four.nc", "--regions", name, *named, *here]
    for name in ("t.csv", "t.json", "t.xlsx", "t.parquet", "t.nc"):
        cases[name] = ["normals", name, "--base", "2001..2001", "--out", "o.csv"]
    # What lies inside, and what runs keep between them: a damaged entry may change no answer.
    with zipfile.ZipFile(folder / "t.shp.zip") as pack:
        cases |= {f"t.shp.zip!{member}": cases["t.shp.zip"] for member in pack.namelist()}
    again = ["run", "study.toml", "--replace"]
    cases |= {"study.toml": again, ".bavlo/study.json": again}
    kept = sorted((folder / ".bavlo" / "values").iterdir())
    cases |= {str(path.relative_to(folder)): again for path in kept}
    for path in sorted((folder / "cache").iterdir()):
        name = "four.nc" if path.name.endswith(OVERLAY) else "rain.grib"
        cases[f"cache/{path.name}"] = cases[name]
    return {name: words for name, words in cases.items() if (folder / file_of(name)).exists()}


def file_of(name):
    """The file that holds what is damaged."""
    return name.partition("!")[0]


def content_of(folder, name):
    """Bytes of a file, or of a member of a zipped one."""
    file, _, member = name.partition("!")
    if not member:
        return (folder / file).read_bytes()
    with zipfile.ZipFile(folder / file) as pack:
        return pack.read(member)


def put(folder, name, content):
    """Put such bytes in their place."""
    file, _, member = name.partition("!")
    if not member:
        (folder / file).write_bytes(content)
        return
    with zipfile.ZipFile(folder / file) as pack:
        members = {n: pack.read(n) for n in pack.namelist()}
    with zipfile.ZipFile(folder / file, "w") as pack:
        for n, held in {**members, member: content}.items():
            pack.writestr(n, held)


def write_grib(path, rain):
    """Rain of each day as GRIB 2 messages, where the library for it is there."""
    try:
        eccodes = library(path)
    except InputError:
        return
    with path.open("wb") as file:
        for day, values in enumerate(rain):
            handle = eccodes.codes_grib_new_from_samples("regular_ll_sfc_grib2")
            settings = {
                "Ni": COLUMNS, "Nj": ROWS, "iDirectionIncrementInDegrees": 1.0,
                "jDirectionIncrementInDegrees": 1.0,
                "latitudeOfFirstGridPointInDegrees": ROWS - 0.5,
                "latitudeOfLastGridPointInDegrees": 0.5, "longitudeOfFirstGridPointInDegrees": 0.5,
                "longitudeOfLastGridPointInDegrees": COLUMNS - 0.5, "bitsPerValue": 16,
                "dataDate": 20010101 + day if day < 31 else 20010201 + day - 31,
            }  # fmt: skip
            for name, value in settings.items():
                eccodes.codes_set(handle, name, value)
            eccodes.codes_set_values(handle, np.maximum(values, 0).astype(float).ravel())
            eccodes.codes_write(handle, file)
            eccodes.codes_release(handle)
    yield path.name


def write_zarr(path, rain):
    """The same as Zarr; what is damaged is one of its files."""
    try:
        import zarr
    except ImportError:
        return
    group = zarr.open_group(path, mode="w", zarr_format=2)
    for axis, centres, unit in (
        ("time", np.arange(DAYS), "days since 2001-01-01"),
        ("lat", np.arange(ROWS) + 0.5, "degrees_north"),
        ("lon", np.arange(COLUMNS) + 0.5, "degrees_east"),
    ):
        array = group.create_array(axis, data=centres.astype(float))
        array.attrs.update({"units": unit, "_ARRAY_DIMENSIONS": [axis]})
    array = group.create_array("rain", data=rain, chunks=(10, ROWS, COLUMNS), fill_value=-9999)
    about = {"units": "mm", "cell_methods": "time: sum"}
    array.attrs.update({**about, "_ARRAY_DIMENSIONS": ["time", "lat", "lon"]})
    yield from (f"{path.name}/rain/{name}" for name in (".zarray", ".zattrs", "2.0.0"))
    yield f"{path.name}/time/.zattrs"


def write_regions(folder, regions):
    """The same regions in further formats."""
    import pyogrio
    import shapely

    shapes = np.array([shapely.Polygon(ring) for ring in regions.values()])
    for name, driver in (("r.kml", "KML"), ("r.fgb", "FlatGeobuf")):
        pyogrio.raw.write(
            folder / name, shapely.to_wkb(shapes), [np.array(list(regions), object)],
            ["name"], geometry_type="Polygon", crs="EPSG:4326", driver=driver,
        )  # fmt: skip
        yield name
    import pyarrow
    import pyarrow.parquet

    about = {"version": "1.0.0", "primary_column": "geometry"}
    about["columns"] = {"geometry": {"encoding": "WKB", "geometry_types": ["Polygon"]}}
    table = pyarrow.table({"name": list(regions), "geometry": list(shapely.to_wkb(shapes))})
    table = table.replace_schema_metadata({"geo": json.dumps(about)})
    pyarrow.parquet.write_table(table, folder / "r.parquet")
    yield "r.parquet"


def damage(content, rng, text):
    """Some bytes changed, in one of the ways in which files come to harm."""
    data = bytearray(content)
    size = len(data)
    place = rng.randrange(size)
    span = rng.randrange(1, max(2, min(200, size - place + 1)))
    way = rng.choice(["flip", "cut", "zero", "swap", "head", "grow"] + ["token"] * text)
    if way == "flip":
        data[place] ^= 1 << rng.randrange(8)
    elif way == "cut":
        del data[place:]
    elif way == "zero":
        data[place : place + span] = bytes(len(data[place : place + span]))
    elif way == "swap":
        other = rng.randrange(size)
        data[place : place + span], data[other : other + span] = (
            data[other : other + span],
            data[place : place + span],
        )
    elif way == "head":
        data[rng.randrange(min(size, 64))] = rng.randrange(256)
    elif way == "grow":
        width = rng.choice([2, 4, 8])
        data[place : place + width] = b"\xff" * len(data[place : place + width])
    else:
        end = place + rng.randrange(1, 8)
        data[place:end] = rng.choice(TOKENS)
    return way, bytes(data)


def mapped():
    """Bytes of addresses that this process has, most of them of libraries."""
    return int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()


def run(folder, words):
    """Exit status or signal, and what was said, of a command in a process of its own."""
    said = folder / "said.txt"
    for name in ("o.csv", "o.csv.about.json"):
        (folder / name).unlink(missing_ok=True)
    sys.stdout.flush()
    child = os.fork()
    if child == 0:
        try:
            os.chdir(folder)
            os.environ["BAVLO_CACHE"] = str(folder / "cache")
            os.environ["TMPDIR"] = str(folder)
            output = os.open("said.txt", os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
            os.dup2(output, 1)
            os.dup2(output, 2)
            most = MEMORY + mapped()
            resource.setrlimit(resource.RLIMIT_AS, (most, most))
            resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
            signal.signal(signal.SIGALRM, signal.SIG_DFL)
            signal.alarm(SECONDS)
            status = bavlo([*words, "--quiet", "--jobs", "1"])
            sys.stdout.flush()
            sys.stderr.flush()
            os._exit(status)
        except BaseException:
            import traceback

            traceback.print_exc()
            os._exit(99)
    _, status = os.waitpid(child, 0)
    return status, said.read_text(errors="replace")


def outcome(status, said, answer, wanted):
    """What came of one damaged input."""
    if os.WIFSIGNALED(status):
        return HANG if os.WTERMSIG(status) == signal.SIGALRM else CRASH
    code = os.WEXITSTATUS(status)
    if code == 99 or "Traceback" in said or "a fault in Bavlo" in said:
        return FAULT
    if code:
        return CLEAN if "bavlo: " in said or "results failed" in said else FAULT
    if answer == wanted:
        return SAME
    return WARNED if "warning" in said else SILENT


def campaign(count, seed=1, keep=None, progress=lambda n: None, only=""):
    """Count what comes of damaged inputs, by file and way of damage.

    Parameters
    ----------
    keep
        Folder for inputs that end badly.
    only
        A part of the names of the inputs that are damaged.
    """
    rng = random.Random(seed)
    found = collections.Counter()
    bad = []
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        cases = {n: words for n, words in make(folder).items() if only in n}
        whole = {n: content_of(folder, n) for n in cases}
        times = {n: (folder / file_of(n)).stat().st_mtime_ns for n in cases}
        wanted = {}
        for n, words in cases.items():
            status, said = run(folder, words)
            if status:
                raise SystemExit(f"{n}: {said}")
            wanted[n] = (folder / "o.csv").read_bytes()
        for number in range(count):
            n = list(cases)[number % len(cases)]
            text = n.endswith((".csv", "json", ".asc", ".kml", ".zarray", ".zattrs", ".toml"))
            way, content = damage(whole[n], rng, text)
            if content == whole[n]:
                continue
            put(folder, n, content)
            status, said = run(folder, cases[n])
            answer = (folder / "o.csv").read_bytes() if (folder / "o.csv").exists() else b""
            sort = outcome(status, said, answer, wanted[n])
            found[n, way, sort] += 1
            if sort in BAD or (sort == SILENT and keep):
                bad.append((n, way, sort, said.strip().splitlines()[-1:] or [""]))
                if keep:
                    keep.mkdir(parents=True, exist_ok=True)
                    (keep / f"{number}_{sort.replace(' ', '_')}_{n.replace('/', '_')}").write_bytes(
                        content
                    )
            drafts = list(folder.glob(".*.part*"))
            if drafts:
                bad.append((n, way, "left a draft", [str(drafts[0])]))
                for draft in drafts:
                    draft.unlink()
            put(folder, n, whole[n])
            os.utime(folder / file_of(n), ns=(times[n], times[n]))  # what is kept goes by it
            progress(number + 1)
    return found, bad


def contents(folder):
    """Bytes of all files in it, by name."""
    out = {}
    for path in folder.iterdir():
        with contextlib.suppress(FileNotFoundError):  # that a run removes meanwhile
            out[path.name] = path.read_bytes() if path.is_file() else b""
    return out


def kills(count, seed=2):
    """Signals at random moments: what is left, and how the command ends."""
    rng = random.Random(seed)
    found = collections.Counter()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        cases = make(folder)
        words = [*cases["four.nc"], "--out", "o.xlsx", "--replace", "--quiet"]
        began = time.perf_counter()
        run(folder, words[:-2])
        usual = time.perf_counter() - began
        for _ in range(count):
            sent = rng.choice([*SENT, signal.SIGKILL])
            before = contents(folder)
            # Signals wait until the child is ready for them, else it would go on as its parent.
            signal.pthread_sigmask(signal.SIG_BLOCK, SENT)
            child = os.fork()
            if child == 0:
                try:
                    os.chdir(folder)
                    tempfile.tempdir = os.environ["TMPDIR"] = str(folder)
                    null = os.open(os.devnull, os.O_WRONLY)
                    os.dup2(null, 1)
                    os.dup2(null, 2)
                    signal.signal(signal.SIGINT, signal.default_int_handler)
                    signal.pthread_sigmask(signal.SIG_UNBLOCK, SENT)
                    os._exit(bavlo(words))
                except KeyboardInterrupt as stopped:
                    os._exit(128 + getattr(stopped, "number", signal.SIGINT))
                except BaseException:
                    os._exit(99)
            signal.pthread_sigmask(signal.SIG_UNBLOCK, SENT)
            time.sleep(rng.uniform(0, usual * 1.2))
            with contextlib.suppress(ProcessLookupError):
                os.kill(child, sent)
            _, status = os.waitpid(child, 0)
            after = contents(folder)
            drafts = [n for n in after if ".part" in n or n.startswith(("bavlo-", "tmp"))]
            outs = [after.get(n) for n in ("o.csv", "o.csv.about.json", "o.xlsx")]
            old = [before.get(n) for n in ("o.csv", "o.csv.about.json", "o.xlsx")]
            whole = outs == old or all(o is not None for o in outs)
            left = "drafts left" if drafts else "nothing left"
            found[sent.name, ended(status), left if sent != signal.SIGKILL else "", whole] += 1
            for draft in drafts:
                path = folder / draft
                shutil.rmtree(path) if path.is_dir() else path.unlink()
    return found


def soak(count, at_once=8, seed=3):
    """Runs side by side in one folder and on one cache, some of them killed.

    Returns
    -------
    dict
        How many runs ended how; outputs with wrong bytes, without their about file or lost; drafts
        that are left, and what is wrong of runs on the cache that all of them leave.
    """
    rng = random.Random(seed)
    found = collections.Counter()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        make(folder)
        jobs = soak_jobs(folder)
        right = {}
        for out, words in jobs.items():  # each by itself, without a cache that others share
            status, said = command(folder, [*words, "--out", f"right_{out}"], f"alone_{out}")
            assert status == 0, said
            right[out] = (folder / f"right_{out}").read_bytes()
        running = {}

        def end(out):
            child, sent, until = running.pop(out)
            time.sleep(max(0, until - time.monotonic()))
            if sent != "none":
                os.kill(child, getattr(signal, sent))
            found[f"sent {sent}, {ended(os.waitpid(child, 0)[1])}"] += 1
            for fault in faults_of(folder / out, right[out], sent):
                found[fault] += 1

        for number in range(count):
            out = rng.choice(list(jobs))
            while out in running or len(running) >= at_once:
                end(min(running, key=lambda one: running[one][2]))
            sent = rng.choice(["none", "none", "SIGKILL", "SIGTERM", "SIGINT"])
            wait = rng.uniform(0, 0.015 * at_once) if sent != "none" else 0.0
            words = [*jobs[out], "--out", out, "--replace"]
            child = begin(folder, words, "cache", f"said{number}")
            running[out] = (child, sent, time.monotonic() + wait)
        for out in list(running):
            end(out)
        for out, words in jobs.items():
            status, said = command(folder, [*words, "--out", out, "--replace"], "cache")
            if status or (folder / out).read_bytes() != right[out]:
                found["wrong at the end"] += 1
        found["drafts left"] += len(list(folder.glob(".*.part*")))
    return found


def soak_jobs(folder):
    """The words of commands, by their outputs."""
    rng = np.random.default_rng(5)
    jobs = {}
    for n in range(6):
        write_square(folder / f"r{n}.geojson", *rng.uniform(0.5, 4, 2), 5.0)
        for every in ("month", "day"):
            for ending in ("csv", "parquet", "gpkg", "xlsx"):
                words = ["series", "sums.nc", "--regions", f"r{n}.geojson", "--every", every]
                jobs[f"{n}{every}.{ending}"] = words
    return jobs


def faults_of(path, right, sent):
    """What is wrong with an output after a run that was sent a signal, or `none`."""
    if not path.exists():
        return ["lost"] if sent == "none" else []
    found = [] if path.read_bytes() == right else ["wrong bytes"]
    # Other formats hold in themselves how they came to be; a kill may part the two files of a
    # CSV, which the next run in the folder puts right.
    if path.suffix == ".csv" and sent != "SIGKILL":
        found += [] if path.with_name(f"{path.name}.about.json").exists() else ["half an output"]
    return found


def ended(status):
    """How a process ended, in words."""
    if os.WIFSIGNALED(status):
        return f"ended by signal {os.WTERMSIG(status)}"
    return f"exit status {os.WEXITSTATUS(status)}"


def write_square(path, x, y, size):
    """One square region."""
    ring = [[x, y], [x + size, y], [x + size, y + size], [x, y + size], [x, y]]
    shape = {"type": "Polygon", "coordinates": [ring]}
    feature = {"type": "Feature", "properties": {"name": "s"}, "geometry": shape}
    path.write_text(json.dumps({"type": "FeatureCollection", "features": [feature]}))


def begin(folder, words, cache, said):
    """A command in a process of its own, with its own words in a file."""
    sys.stdout.flush()
    child = os.fork()
    if child == 0:
        os.chdir(folder)
        os.environ["BAVLO_CACHE"] = str(folder / cache)
        output = os.open(said, os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
        os.dup2(output, 1)
        os.dup2(output, 2)
        signal.signal(signal.SIGINT, signal.default_int_handler)
        try:
            os._exit(bavlo([*words, "--quiet", "--jobs", "2"]))
        except KeyboardInterrupt:
            os._exit(130)
        except BaseException:
            os._exit(99)
    return child


def command(folder, words, cache):
    """The same, waited for: its exit status and what it said."""
    _, status = os.waitpid(begin(folder, words, cache, "said.txt"), 0)
    return status, (folder / "said.txt").read_text(errors="replace")


def main():
    """Print the tables."""
    parser = argparse.ArgumentParser()
    parser.add_argument("count", type=int, nargs="?", default=1000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--kills", type=int, default=0)
    parser.add_argument("--only", help="a part of the names of the inputs that are damaged")
    parser.add_argument("--keep", type=Path, help="folder for inputs that end badly")
    parser.add_argument("--soak", type=int, default=0, help="runs side by side on one cache")
    given = parser.parse_args()
    if given.soak:
        for key, number in sorted(soak(given.soak, seed=given.seed).items()):
            print(f"{key}: {number}")
        return
    if given.keep:
        shutil.rmtree(given.keep, ignore_errors=True)
    found, bad = campaign(given.count, given.seed, given.keep, only=given.only or "")
    files = list(dict.fromkeys(n for n, _, _ in found))
    print("| input | " + " | ".join(OUTCOMES) + " |")
    print("|---" * (len(OUTCOMES) + 1) + "|")
    for n in files:
        row = [sum(c for (f, _, s), c in found.items() if (f, s) == (n, o)) for o in OUTCOMES]
        print(f"| {n} | " + " | ".join(map(str, row)) + " |")
    total = [sum(c for (_, _, s), c in found.items() if s == o) for o in OUTCOMES]
    print("| all | " + " | ".join(map(str, total)) + " |\n")
    silent = collections.Counter()
    for (n, way, sort), c in found.items():
        silent[n, way] += c if sort == SILENT else 0
    print("silent:", ", ".join(f"{n} {way} {c}" for (n, way), c in silent.items() if c) or "none")
    for line in bad[:40]:
        if line[2] != SILENT:
            print(*line)
    if given.kills:
        for key, c in sorted(kills(given.kills).items()):
            print(*key, c)


if __name__ == "__main__":
    main()
