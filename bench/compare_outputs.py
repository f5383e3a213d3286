# ruff: noqa: E501
"""The outputs of two checkouts side by side, byte by byte.

    python bench/compare_outputs.py EARLIER [--only PATTERN]

EARLIER is a folder with another checkout, whose `src` is run by this interpreter. Every command
runs on the demo data and on odd grids, once by each checkout. Tables, grids and figures are compared
byte by byte (tables that differ by their largest relative difference, too), provenance by the fields
in which it differs. A tool for a change that must leave the numbers alone; it pins nothing.
"""

import argparse
import csv
import fnmatch
import json
import math
import os
import shutil
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import netCDF4
import numpy as np
import rasterio
from rasterio.transform import from_origin

HERE = Path(__file__).resolve().parents[1]
W = "--regions {d}/watersheds.geojson"
D = "--regions {d}/districts.zip --label name"
RAIN, TMAX, TMIN = "{d}/rain_*.nc", "{d}/tmax_*.nc", "{d}/tmin_*.nc"
HEAT = f"tmax={TMAX} tmin={TMIN}"
R = "--regions {g}/regions.geojson"

# Name of the output: the command that makes it.
CASES = {
    "month.csv": f"series {RAIN} {W} --every month --out {{o}} --out {{o}}.png",
    "year.csv": f"series {RAIN} {W} --every year --out {{o}} --out {{o}}.svg",
    "measures.csv": f"series {TMAX} {D} --every season --measure mean,min,max,range,std,median,p90",
    "region_first.csv": f"series {TMAX} {D} --every season --order region --measure p10,max,std,mean",
    "volume.csv": f"series {RAIN} {W} --every year --measure volume,cv,count,mean",
    "days.csv": f"series {RAIN} {W} --every day --during 1999..2000 --jobs 1",
    "jobs.csv": f"series {RAIN} {W} --every pentad --during 1999..2001-03 --jobs 4 --memory 400MB",
    "span.csv": f"series {RAIN} {W} --every 11-15..03-15 --min-steps 0.9 --measure mean,p90",
    "window.csv": f"series {RAIN} {W} --every month --window 3 --during 2001..2010 --measure mean",
    "running.csv": f"series {RAIN} {D} --every year --combine running --during 2009..2010",
    "degrees.csv": f"series {TMAX} {W} --combine 'degree-days above 18 degC' --every year",
    "wmo.csv": f"series {TMAX} {W} --min-steps wmo --unit K",
    "span_so_far.csv": f"anomalies {RAIN} {W} --every year --same-span --base 1995..2015",
    "weight.csv": f"series {RAIN} {D} --weight {{d}}/people.tif --every year",
    "people.csv": f"series {{d}}/people.tif {D} --measure sum,max",
    "cover.csv": f"series {{d}}/landcover.nc {W} --measure shares",
    "majority.csv": f"series {{d}}/landcover.nc {D} --measure majority",
    "make.csv": f"series {HEAT} {W} --make 'tmean = (tmax + tmin) / 2' --every season",
    "cluster.csv": f"series {RAIN} {W} --every year --measure mean,p90 --cluster local --jobs 2",
    "normals.csv": f"normals {RAIN} {W} --every month --statistic mean,std,p10,max --out {{o}} "
    "--out {o}.png",
    "normals_day.csv": f"normals {TMAX} {D} --every day --smooth 15 --statistic mean,p90",
    "from_months.csv": f"normals {RAIN} {W} --every season --normals-from months",
    "anomalies.csv": f"anomalies {RAIN} {W} --every season --out {{o}} --out {{o}}.pdf",
    "spi.csv": "anomalies {d}/rain_months.csv --score spi --window 1,3,12 --during 2001..2018",
    "heavy.csv": f"extremes {RAIN} {W} --when 'rain >= 20 mm' --count days,share,spells,longest,"
    "total,excess,first,last --every year --events {o}.events.csv",
    "spells.csv": f"extremes {RAIN} {W} --when 'rain < 1 mm for 5 days' --count days,spells,longest "
    "--every month --during 2001..2006 --jobs 3",
    "cut.csv": f"extremes {RAIN} {W} --when 'rain >= 5 mm for 2 days' --count spells,longest,total "
    "--every JJA --spell-edge cut",
    "waves.csv": f"extremes {HEAT} {D} --when 'tmax > p90 and tmin > p90 for 3 days' --count "
    "days,spells,longest --every year --events {o}.events.csv",
    "wet.csv": f"extremes {RAIN} {W} --when 'rain > p95 of wet days' --count days,total --every year "
    "--memory 900MB",
    "on_regions.csv": f"extremes {RAIN} {W} --when 'rain >= 10 mm' --test-on region --every season "
    "--count days,longest,excess --events {o}.events.csv",
    "indices.csv": f"extremes rain={RAIN} {HEAT} {D} --only 'C*' --index all --test-on region "
    "--every year --base 1995..2014",
    "bootstrap.csv": f"extremes {HEAT} {W} --index TX90p,WSDI,CSDI,FD --every year --base 1996..2005 "
    "--only 'U*'",
    "count_cluster.csv": f"extremes {RAIN} {W} --when 'rain < 1 mm for 5 days' --count days,longest,"
    "total --every year --cluster local --jobs 2",
    "pct_cluster.csv": f"extremes {TMAX} {W} --when 'tmax > p90' --count days --every year "
    "--cluster local --jobs 2 --during 2001..2004",
    "levels.csv": f"extremes {RAIN} {W} --return-levels 2,10,50 --out {{o}} --out {{o}}.png",
    "values.nc": f"grid {RAIN} --every year --out {{o}}",
    "normal.nc": f"grid {TMAX} {W} --every season --as normal --unit degC --out {{o}}",
    "anomaly.tif": f"grid {RAIN} {W} --every season --as anomaly --during 2018-06..2018-08 --out {{o}}",
    "score.nc": f"grid {RAIN} --every year --as score --jobs 2 --out {{o}} --out {{o}}.tif",
    "percent.nc": f"grid {RAIN} {W} --outside crop --every month --as percent --during 2010 --out {{o}}",
    "odd_packed.csv": f"series {{g}}/packed.nc {R} --every month --measure mean,max,p90",
    "odd_packed_region.csv": f"series {{g}}/packed.nc {R} --every season --order region "
    "--measure mean,median",
    "odd_rate.csv": f"series {{g}}/rate.nc {R} --every season --measure mean,volume",
    "odd_hours.csv": f"series {{g}}/hours.nc {R} --every day --min-steps 0.5",
    "odd_gaps.csv": f"series {{g}}/gaps.nc {R} --every month --min-steps 0.5 --min-area 0.2 "
    "--measure mean,min,std,p25",
    "odd_tiffs.csv": f"series {{g}}/tiffs {R} --every dekad --measure mean,max",
    "odd_weeks.csv": f"series {{g}}/weeks.nc {R} --every month --min-steps 0.8",
    "odd_slabs.csv": f"series {{g}}/slabs.nc {R} --every year --measure mean,p50 --memory 400MB",
    "odd_long.csv": f"series {{g}}/long.nc {R} --every all --measure mean,max,p90 --jobs 3",
    "odd_count.csv": f"extremes {{g}}/gaps.nc {R} --when '>= 4 mm for 2 days' --count days,share,"
    "longest,first --every month --min-steps 0.5 --events {o}.events.csv",
    "odd_points.csv": "series {g}/gaps.nc --regions {g}/points.csv --measure bilinear "
    "--every month --min-steps 0.3",
    "odd_zones.csv": "series {g}/gaps.nc --regions {g}/zones.tif --every season --min-steps 0.3",
    "odd_onto.nc": "grid {g}/gaps.nc --onto {g}/rate.nc --every month --min-steps 0.2 --out {o}",
    "years.png": "chart {d}/rain_months.csv --figure years --out {o}",
    "matrix.svg": "chart {d}/rain_months.csv --figure matrix --out {o}",
    "totals.png": "chart {d}/rain_years.csv --figure totals --out {o}",
    "map.png": f"map {{d}}/rain_years.csv {W} --period 2007 --out {{o}}",
    "people_map.svg": f"map {{d}}/people.tif {W} --classes quantile --out {{o}}",
    "describe.txt": "describe {d}/rain_*.nc {d}/watersheds.geojson {d}/districts.zip "
    "--out - --format json",
}  # fmt: skip


def odd_grids(folder):
    """Grids of other calendars, packings, lengths of step, layouts and gaps, and their regions."""
    rng = np.random.default_rng(11)

    def write(name, values, since, step=1.0, lon=None, lat=None, calendar="standard", **more):
        steps, ny, nx = values.shape
        with netCDF4.Dataset(folder / f"{name}.nc", "w") as data:
            axes = (
                ("time", np.arange(steps) * step, since),
                ("lat", 40 - 0.5 * np.arange(ny) if lat is None else lat, "degrees_north"),
                ("lon", 1 + 0.5 * np.arange(nx) if lon is None else lon, "degrees_east"),
            )
            for axis, centres, unit in axes:
                data.createDimension(axis, len(centres))
                data.createVariable(axis, "f8", (axis,))[:] = centres
                data[axis].units = unit
            data["time"].calendar = calendar
            attributes = {"units": "mm", "cell_methods": "time: sum", **more.pop("attributes", {})}
            storage = {"zlib": True, "shuffle": True, **more}
            stored = data.createVariable("rain", more.pop("dtype", "f4"), tuple(a for a, *_ in axes),
                                         **{k: v for k, v in storage.items() if k != "dtype"})  # fmt: skip
            for key, value in attributes.items():
                setattr(stored, key, value)
            stored[:] = np.ma.masked_invalid(values)

    daily = rng.gamma(0.4, 8, (800, 12, 14))
    daily[:, :2, :3] = np.nan
    write("packed", daily, "days since 2001-01-01", dtype="i2", fill_value=-9999,
          attributes={"scale_factor": 0.1, "add_offset": 5.0})  # fmt: skip
    gaps = daily.copy()
    gaps[rng.random(gaps.shape) < 0.05] = np.nan
    gaps[100:140] = np.nan
    write("gaps", gaps, "days since 2001-01-01", lon=359 + 0.5 * np.arange(14) - 356.0)
    write("rate", daily[:48, ::2, ::2], "days since 2001-01-16", 30.0, calendar="360_day",
          lon=1 + np.arange(7), lat=40 - np.arange(6),
          attributes={"units": "kg m-2 s-1", "cell_methods": "time: mean"})  # fmt: skip
    write("hours", daily[:400], "hours since 2001-01-01 03:00", 6.0)
    write("weeks", daily[:110], "days since 2001-01-03", 7.0)
    write("slabs", daily, "days since 2001-01-01", chunksizes=(800, 3, 3))
    write("long", rng.gamma(0.4, 8, (2200, 60, 60)), "days since 2001-01-01",
          lat=40 - 0.1 * np.arange(60), lon=1 + 0.1 * np.arange(60))  # fmt: skip
    (folder / "tiffs").mkdir()
    shape = {"width": 14, "height": 12, "count": 1, "crs": "EPSG:4326", "dtype": "float32"}
    north = from_origin(0.75, 40.25, 0.5, 0.5)
    for n, day in enumerate(np.arange("2001-01-01", "2001-05-01", dtype="M8[D]")):
        name = folder / "tiffs" / f"rain_{str(day).replace('-', '')}.tif"
        with rasterio.open(
            name, "w", driver="GTiff", transform=north, compress="deflate", nodata=-1, **shape
        ) as out:
            out.write(np.nan_to_num(daily[n], nan=-1).astype("f4"), 1)
            out.update_tags(1, units="mm", standard_name="precipitation_amount")
    with rasterio.open(
        folder / "zones.tif", "w", driver="GTiff", transform=north, **{**shape, "dtype": "uint8"}
    ) as out:
        out.write((np.arange(168).reshape(12, 14) // 30).astype("u1"), 1)
    (folder / "points.csv").write_text("name,lon,lat\na,3.1,39.2\nb,5.3,37.7\n")
    rings = {
        "west": [[1.3, 39.9], [4.1, 39.6], [3.7, 36.2], [1.6, 36.6]],
        "east": [[4.1, 39.6], [6.9, 38.8], [6.6, 36.1], [3.7, 36.2]],
        "tiny": [[2.1, 38.3], [2.15, 38.31], [2.12, 38.36]],
        "out": [[6.5, 35.5], [9.5, 35.5], [9.5, 37.5], [6.5, 37.5]],
        "far": [[50, 10], [51, 10], [51, 11]],
    }
    features = [
        {
            "type": "Feature",
            "properties": {"name": name},
            "geometry": {"type": "Polygon", "coordinates": [[*ring, ring[0]]]},
        }
        for name, ring in rings.items()
    ]
    text = json.dumps({"type": "FeatureCollection", "features": features})
    (folder / "regions.geojson").write_text(text)


def run(checkout, command, cwd, stdout=subprocess.DEVNULL):
    """Run one command line with the code of a checkout."""
    import shlex

    own = {"PYTHONPATH": str(checkout / "src"), "BAVLO_CACHE": str(cwd / "cache")}
    return subprocess.run(
        [sys.executable, "-m", "bavlo", *shlex.split(command)],
        env={**os.environ, **own},
        cwd=cwd,
        stdout=stdout,
        stderr=subprocess.PIPE,
        text=True,
        check=False,
    )


def make_all(checkout, folder, data, wanted):
    """All outputs by one checkout; the commands that failed."""
    folder.mkdir(exist_ok=True)
    failed = []
    for name in wanted:
        if (folder / f"{name}.said").exists():  # kept from an earlier comparison
            continue
        # Both write to the same name, since names stand in what is written.
        out = f"out/{name}"
        (folder / "out").mkdir(exist_ok=True)
        command = CASES[name].format(d=data / "sorrel", g=data / "odd", o=out)
        if "--out" not in command and not command.startswith("describe"):
            command += f" --out {out}"
        with (folder / f"{name}.said").open("w") as said:
            done = run(
                checkout,
                command + ("" if command.startswith("describe") else " --replace"),
                folder,
                said,
            )
        if done.returncode:
            (folder / f"{name}.said").unlink()
            failed.append(f"{name}: {done.stderr.strip()[-300:]}")
    return failed


def fields(value, path=""):
    """Every leaf of plain data with its path."""
    if isinstance(value, dict):
        for key, each in value.items():
            yield from fields(each, f"{path}.{key}")
    elif isinstance(value, list):
        yield path, json.dumps(value, ensure_ascii=False)
    else:
        yield path, value


def largest_difference(one, other):
    """The largest relative difference of two tables that differ in numbers only; else words."""
    rows = [list(csv.reader(path.open(encoding="utf-8"))) for path in (one, other)]
    if [len(r) for r in rows[0]] != [len(r) for r in rows[1]]:
        return "other rows or columns"
    most = 0.0
    for before, after in zip(*rows, strict=True):
        for a, b in zip(before, after, strict=True):
            if a == b:
                continue
            try:
                x, y = float(a), float(b)
            except ValueError:
                return f"'{a}' is now '{b}'"
            most = max(most, abs(x - y) / max(abs(x), abs(y), math.ulp(0.0)))
    return f"largest relative difference {most:.3g}"


def compare(before, after):
    """Lines about what differs, and by how much; fields of provenance that differ."""
    lines, changed = [], {}
    names = {p.relative_to(before) for p in before.rglob("*") if p.is_file()}
    names |= {p.relative_to(after) for p in after.rglob("*") if p.is_file()}
    for name in sorted(n for n in names if "cache" not in n.parts):
        one, other = before / name, after / name
        if not one.exists() or not other.exists():
            lines.append(f"{name}: only {'before' if one.exists() else 'after'}")
        elif one.read_bytes() == other.read_bytes():
            continue
        elif name.name.endswith(".about.json"):
            old, new = (dict(fields(json.loads(p.read_text()))) for p in (one, other))
            for key in {*old, *new}:
                if old.get(key, "(none)") != new.get(key, "(none)"):
                    pair = f"{old.get(key, '(none)')} -> {new.get(key, '(none)')}"
                    changed.setdefault(key, {}).setdefault(pair, []).append(str(name))
        elif name.suffix == ".csv":
            lines.append(f"{name}: {largest_difference(one, other)}")
        else:
            lines.append(f"{name}: {one.stat().st_size} bytes, now {other.stat().st_size}")
    return lines, changed


def main():
    """Run everything twice and print what differs."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("earlier", type=Path, help="another checkout")
    parser.add_argument("--only", default="*", help="pattern of the outputs to make")
    parser.add_argument("--keep", type=Path, help="folder to keep all in; what is there is used")
    given = parser.parse_args()
    folder = given.keep or Path(tempfile.mkdtemp(prefix="compare-"))
    folder.mkdir(exist_ok=True)
    data = folder / "data"
    if not data.exists():
        (data / "odd").mkdir(parents=True)
        odd_grids(data / "odd")
        done = run(given.earlier, f"demo {data / 'sorrel'} --quiet", data)
        assert not done.returncode, done.stderr
    wanted = [name for name in CASES if fnmatch.fnmatch(name, given.only)]
    before, after = folder / "before", folder / "after"
    shutil.rmtree(after, ignore_errors=True)
    todo = [(given.earlier.resolve(), before), (HERE, after)]
    with ThreadPoolExecutor(2) as pool:
        failed = list(pool.map(lambda each: make_all(each[0], each[1], data, wanted), todo))
    for (checkout, _), each in zip(todo, failed, strict=True):
        for line in each:
            print(f"failed in {checkout}: {line}")
    lines, changed = compare(before, after)
    for line in lines:
        print(line)
    for key, pairs in sorted(changed.items()):
        pair, names = next(iter(pairs.items()))
        print(f"provenance {key}: {pair[:160]} ({sum(map(len, pairs.values()))} files, {names[0]})")
    print(f"{len(wanted)} commands, {len(lines)} differences, {len(changed)} fields of provenance")
    if not given.keep:
        shutil.rmtree(folder)


if __name__ == "__main__":
    main()
