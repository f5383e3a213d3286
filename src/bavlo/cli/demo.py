"""`bavlo demo`: the Sorrel Coast, and a worked example on it."""

from __future__ import annotations

import contextlib
import os
import shlex
import shutil
import time
from importlib.util import find_spec
from pathlib import Path

from bavlo.cli.parsing import Parser
from bavlo.cli.screen import Screen
from bavlo.errors import OutputError

DESCRIPTION = """Make the demo data in DIR (default: sorrel) and run a worked example on it.

The Sorrel Coast is made up: thirty years of daily rain and temperature, watersheds and districts
of a place that does not exist. It is the same every time."""

EXAMPLES = """examples:
  bavlo demo
  bavlo demo elsewhere/sorrel
"""

# The worked example: what is asked, and the command that answers it, from the folder of the data.
STEPS = (
    ("What is in these files?", "bavlo describe 'rain_*.nc' watersheds.geojson"),
    (
        "How much did it rain in each watershed, month by month?",
        "bavlo series 'rain_*.nc' --regions watersheds.geojson --every month --out rain_months.csv",
    ),
    (
        "Which years were wet, and where?",
        "bavlo series 'rain_*.nc' --regions watersheds.geojson --every year "
        "--out rain_years.csv --out rain_years.png",
    ),
    (
        "The same as a workbook, and as a layer for a map program:",
        "bavlo series 'rain_*.nc' --regions watersheds.geojson --every year --measure mean,max "
        "--out rain_years.xlsx --out rain_years.gpkg",
    ),
    (
        "The wettest of them on a map:",
        "bavlo map rain_years.csv --regions watersheds.geojson --period 2007 --out wettest.png",
    ),
    (
        "Was the winter of 2018 wet?",
        "bavlo anomalies rain_months.csv --window 3 --during 2018-08 --out winter.csv",
    ),
    (
        "On how many days a year do 20 mm fall, and for how many days on end?",
        "bavlo extremes 'rain_*.nc' --regions watersheds.geojson --when 'rain >= 20 mm' "
        "--count days,longest --every year --out heavy.csv",
    ),
    (
        "How hot do the districts get, on average and in their hottest tenth?",
        "bavlo series 'tmax_*.nc' --regions districts.zip --label name --every year "
        "--measure mean,p90 --unit degC --during 2001..2020 --out heat.csv --out heat.png",
    ),
    (
        "How many people live in each district?",
        "bavlo series people.tif --regions districts.zip --label name --measure sum "
        "--out people.csv",
    ),
    (
        "Does the satellite see the same rain?",
        "bavlo compare 'gauge=rain_*.nc' sat=satellite_rain.nc --regions watersheds.geojson "
        "--every month --out agreement.csv --out agreement.png",
    ),
    (
        "Is it getting warmer?",
        "bavlo trends 'tmax_*.nc' --regions watersheds.geojson --every year --unit degC "
        "--out warming.csv --out warming.png",
    ),
    (
        "Land cover on square cells of ten kilometres, as a map:",
        "bavlo grid landcover.nc --crs EPSG:32744 --cell 10000 --out cover_10km.tif",
    ),
    ("", "bavlo map cover_10km.tif --out cover_10km.png"),
    (
        "How many km² of each land cover has each watershed?",
        "bavlo series landcover.nc --regions watersheds.geojson --measure shares --out cover.csv",
    ),
    (
        "How did the wettest year of Ombrel come to be?",
        "bavlo trace rain_years.csv --region Ombrel --period 2007 --out ombrel.png",
    ),
    ("All of a study, and one page of it for others:", "bavlo run study.toml"),
    ("", "bavlo report study.toml --out report.html"),
)
PAGES = "jinja2"  # the library without which no page is made
WORKBOOKS = "xlsxwriter"  # the library without which no workbook is written
MARKS = ("study.toml", "watersheds.geojson", "rain_1991-2000.nc")  # of an earlier demo
SIZE_MB = 80  # of all that the demo writes
FIRST_LOOK = "rain_years.png"


def parser(command: str) -> Parser:
    """The command line of `bavlo demo`."""
    options = Parser("demo", description=DESCRIPTION, epilog=EXAMPLES, usage="bavlo demo [DIR]")
    options.add_argument(
        "folder",
        metavar="DIR",
        nargs="?",
        default="sorrel",
        help="where to put it (default: sorrel); made if it is not there",
    )
    options.add_argument("--replace", action="store_true", help="write over an earlier demo in DIR")
    options.add_argument("--quiet", action="store_true", help="no progress")
    return options


def run(command: str, arguments: list[str]) -> int:
    """Run `bavlo demo`."""
    given = parser(command).read(arguments)
    folder = Path(given["folder"]).expanduser()
    if folder.exists() and not folder.is_dir():
        raise OutputError(folder, "is not a folder", "name another one")
    if folder.is_dir() and any(folder.iterdir()):
        if not all((folder / name).exists() for name in MARKS):
            raise OutputError(folder, "holds other things", "name another folder")
        if not given["replace"]:
            raise OutputError(folder, "holds a demo", "name another folder, or --replace")
    began = time.monotonic()
    _make(folder, Screen(quiet=given["quiet"]))
    for question, command in STEPS:
        if find_spec(PAGES) is None and command.startswith("bavlo report"):
            continue
        if find_spec(WORKBOOKS) is None:
            command = command.replace("--out rain_years.xlsx ", "")
        _show(question, command, folder)
    print(f"\nDone in {time.monotonic() - began:.0f} seconds. Look first at {folder / FIRST_LOOK}")
    print("(yearly rain of every watershed), then at the tables beside it, and try")
    print(
        f"  bavlo series {shlex.quote(str(folder / 'rain_*.nc'))} "
        f"--regions {shlex.quote(str(folder / 'watersheds.geojson'))} --every season"
    )
    return 0


def _make(folder: Path, screen: Screen) -> None:
    from bavlo.demo.files import make_files

    print(f"Making the Sorrel Coast in {folder}: a made-up place, the same every time.")
    print(f"It takes {SIZE_MB} MB, nearly all of it data, and about a minute.", flush=True)
    folder.mkdir(parents=True, exist_ok=True)
    draft = folder / f".{os.getpid()}.part"
    draft.mkdir()
    try:
        paths = make_files(draft, lambda done, all_: screen.progress(done, all_, "parts"))
        files = [folder / path.relative_to(draft) for path in paths]
        for path, final in zip(paths, files, strict=True):
            final.parent.mkdir(exist_ok=True)
            path.replace(final)
    finally:
        screen.close()
        shutil.rmtree(draft, ignore_errors=True)
    size = sum(file.stat().st_size for file in files)
    grids = sum(file.suffix == ".nc" for file in files)
    print(f"Made {len(files)} files, {grids} of them NetCDF grids; {size / 1e6:.0f} MB in all.")


def _show(question: str, command: str, folder: Path) -> None:
    """Run one command of the worked example, as a user in the folder would."""
    print(f"\n{question}\n$ {command}" if question else f"$ {command}", flush=True)
    words = shlex.split(command)[1:]
    words += ["--replace"] if "--out" in words else []
    from bavlo.cli.main import main

    with contextlib.chdir(folder):
        status = main(words)
    if status == 130:
        raise KeyboardInterrupt
    if status:
        raise OutputError(folder, f"the example stopped with exit status {status}")
