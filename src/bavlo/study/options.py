"""The one table of options that command line and study files are filled in from.

What reads the text of an option is loaded when it is used, so that the help is there at once.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from bavlo.core.errors import RequestError

if TYPE_CHECKING:
    from bavlo.study.request import Request


def _later(module: str, name: str) -> Callable[..., Any]:
    """A function of a module that is loaded once it is called."""

    def call(*arguments: Any) -> Any:
        return getattr(import_module(module), name)(*arguments)

    return call


def _choice(option: str, module: str, name: str) -> Callable[[str], str]:
    """One of the words that a module lists."""
    return lambda text: str(parse_choice(text, option, getattr(import_module(module), name)))


_REQUEST = "bavlo.study.request"
parse_base = _later("bavlo.core.normals", "parse_base")
parse_range = _later("bavlo.core.periods", "parse_range")
parse_combine = _later("bavlo.core.combine", "parse_combine")
parse_condition = _later("bavlo.core.conditions", "parse_condition")
parse_counts = _later("bavlo.core.conditions", "parse_counts")
parse_formula = _later("bavlo.core.formula", "parse_formula")
parse_choice = _later(_REQUEST, "parse_choice")
parse_hour = _later(_REQUEST, "parse_hour")
parse_jobs = _later(_REQUEST, "parse_jobs")
parse_measures = _later(_REQUEST, "parse_measures")
parse_memory = _later(_REQUEST, "parse_memory")
parse_month = _later(_REQUEST, "parse_month")
parse_number = _later(_REQUEST, "parse_number")
parse_offset = _later(_REQUEST, "parse_offset")
parse_share = _later(_REQUEST, "parse_share")
parse_smooth = _later(_REQUEST, "parse_smooth")
parse_statistics = _later(_REQUEST, "parse_statistics")
parse_windows = _later(_REQUEST, "parse_windows")
parse_years = _later(_REQUEST, "parse_years")
split_commas = _later(_REQUEST, "split_commas")


def usable_cpus() -> int:
    """How many processors this process may use."""
    try:
        return len(os.sched_getaffinity(0))
    except AttributeError:
        return os.cpu_count() or 1


class Option(NamedTuple):
    """One option; no dataclass, whose module takes longer to load than all else that help needs.

    Parameters
    ----------
    name
        As `--name` and as a key of a study file.
    field
        The field of the request that it fills.
    metavar
        What stands for its value in the help; empty for a switch.
    help
        What it does, with its default.
    parse
        From text to the field's value.
    repeat
        May be given several times.
    group
        Heading in the help.
    """

    name: str
    field: str
    metavar: str
    help: str
    parse: Callable[[Any], Any] = str
    repeat: bool = False
    group: str = "what"


def _paths(texts: list[str]) -> tuple[Path, ...]:
    return tuple(Path(text).expanduser() for text in texts)


def _folder(text: str) -> Path:
    path = Path(text).expanduser()
    if not path.is_dir():
        raise RequestError("--scratch", f"there is no folder {path}", "make it first")
    return path


def _indices(texts: list[str]) -> tuple[str, ...]:
    from bavlo.core.indices import INDICES, find_index

    names = split_commas(texts)
    if [name.lower() for name in names] == ["all"]:
        return tuple(name for name in INDICES if name != "Rnnmm")
    return tuple(dict.fromkeys(find_index(name).name for name in names))


OPTIONS: dict[str, Option] = {
    option.name: option
    for option in (
        Option(
            "regions",
            "regions",
            "FILE",
            "the regions: Shapefile (also zipped), GeoJSON, GeoPackage, …",
            lambda t: Path(t).expanduser(),
            group="regions",
        ),
        Option(
            "base",
            "base",
            "FIRST..LAST",
            "years that normals are taken from (default: 1991..2020 where 80 % of it is there)",
            parse_base,
            group="time",
        ),
        Option(
            "statistic",
            "statistics",
            "NAME,…",
            "mean std min max pNN over the base (default: mean,std); repeatable",
            parse_statistics,
            True,
            group="time",
        ),
        Option(
            "smooth",
            "smooth",
            "DAYS",
            "running mean over daily normals, centred and circular (default: none)",
            parse_smooth,
            group="time",
        ),
        Option(
            "window",
            "windows",
            "N,…",
            "totals or means of the last N periods (default: 1); repeatable",
            parse_windows,
            True,
            group="time",
        ),
        Option(
            "score",
            "score",
            "KIND",
            "standard (anomaly / std of the base) or spi, the standardised precipitation index "
            "(default: standard)",
            lambda t: parse_choice(t, "--score", ("standard", "spi")),
            group="time",
        ),
        Option(
            "when",
            "when",
            "CONDITION",
            '"[VARIABLE] OP THRESHOLD [and …] [for N days]", as "rain >= 20 mm" or '
            '"tmax > p90 for 3 days"; repeatable',
            lambda texts: tuple(parse_condition(text) for text in texts),
            True,
            group="extremes",
        ),
        Option(
            "count",
            "counts",
            "NAME,…",
            "days share spells longest total excess first last (default: days); repeatable",
            lambda texts: parse_counts(split_commas(texts)),
            True,
            group="extremes",
        ),
        Option(
            "index",
            "indices",
            "NAME,…",
            "ETCCDI indices by name, as TX90p,Rx5day, or all; see --list",
            _indices,
            True,
            group="extremes",
        ),
        Option(
            "test-on",
            "test_on",
            "cell|region",
            "test each cell and take the mean over the area, or test the region's own series "
            "(default: cell)",
            lambda t: parse_choice(t, "--test-on", ("cell", "region")),
            group="extremes",
        ),
        Option(
            "spell-edge",
            "spell_edge",
            "run|cut",
            "spells run on over the edges of adjoining periods and count where they end, or are "
            "cut there (default: run)",
            lambda t: parse_choice(t, "--spell-edge", ("run", "cut")),
            group="extremes",
        ),
        Option(
            "events",
            "events",
            "FILE",
            "write each spell in each region to this .csv",
            lambda t: Path(t).expanduser(),
            group="extremes",
        ),
        Option(
            "area-share",
            "area_share",
            "SHARE",
            "with --test-on cell, share of its area from which a region is in an event "
            "(default: 0.25)",
            lambda t: parse_share(t, "--area-share"),
            group="extremes",
        ),
        Option(
            "wet-day",
            "wet_day",
            "DEPTH",
            "rain from which a day is wet (default: 1 mm)",
            group="extremes",
        ),
        Option(
            "no-bootstrap",
            "no_bootstrap",
            "",
            "judge days of the base by percentiles that they are part of; faster",
            group="extremes",
        ),
        Option(
            "return-levels",
            "return_levels",
            "YEARS,…",
            "values that are reached once in so many years, from yearly highest values",
            parse_years,
            group="extremes",
        ),
        Option(
            "fit",
            "fit",
            "lmoments|ml",
            "how the distribution of yearly highest values is fitted (default: lmoments)",
            lambda t: parse_choice(t, "--fit", ("lmoments", "ml")),
            group="extremes",
        ),
        Option(
            "layer",
            "layer",
            "NAME",
            "layer of the region file, where it has several",
            group="regions",
        ),
        Option(
            "label",
            "label",
            "FIELD",
            "field that names the regions (found where only one can be meant)",
            group="regions",
        ),
        Option(
            "only",
            "only",
            "NAME",
            "only this region, or those that match a pattern with * and ?; repeatable",
            tuple,
            True,
            group="regions",
        ),
        Option(
            "merge-by",
            "merge_by",
            "FIELD",
            "join the regions that have this field in common",
            group="regions",
        ),
        Option(
            "region-crs",
            "region_crs",
            "CRS",
            "reference system of the regions, where the file names none, as EPSG:32744",
            group="regions",
        ),
        Option(
            "names",
            "names",
            "FILE",
            "CSV with the names of the codes of a zone raster",
            lambda t: Path(t).expanduser(),
            group="regions",
        ),
        Option("strict", "strict", "", "refuse shapes that would be repaired", group="regions"),
        Option(
            "at-points",
            "at_points",
            "HOW",
            "value at points: of the cell that they are in, or bilinear (default: cell)",
            _choice("--at-points", "bavlo.core.points", "AT_POINTS"),
            group="space",
        ),
        Option(
            "weight",
            "weight",
            "FILE",
            "a further weight for each cell, such as people",
            lambda t: Path(t).expanduser(),
            group="space",
        ),
        Option(
            "weight-kind",
            "weight_kind",
            "KIND",
            "the weight is a count (per cell) or a density (default: told by its unit)",
            lambda t: parse_choice(t, "--weight-kind", ("count", "density")),
            group="space",
        ),
        Option(
            "make",
            "make",
            "FORMULA",
            'a grid made of named ones, as "tmean = (tmax + tmin) / 2"; repeatable',
            lambda texts: tuple(parse_formula(text) for text in texts),
            True,
            group="grid",
        ),
        Option(
            "variable",
            "variable",
            "NAME",
            "variable, where a file has several; GRID=NAME for one of several grids",
            repeat=True,
            group="grid",
        ),
        Option(
            "level",
            "level",
            "V",
            "value of a further dimension, where it has several",
            group="grid",
        ),
        Option(
            "input-unit",
            "input_unit",
            "UNIT",
            "unit of the file, where it is silent or wrong; GRID=UNIT for one of several",
            repeat=True,
            group="grid",
        ),
        Option(
            "scale",
            "scale",
            "NUMBER",
            "multiply values by this (after the file's own packing)",
            lambda t: parse_number(t, "--scale"),
            group="grid",
        ),
        Option(
            "offset",
            "offset",
            "NUMBER",
            "then add this",
            lambda t: parse_number(t, "--offset"),
            group="grid",
        ),
        Option(
            "dates",
            "dates",
            "PATTERN",
            "where the date stands in file names, as rain_%Y%m%d (default: found)",
            group="grid",
        ),
        Option(
            "prefer",
            "prefer",
            "first|last",
            "which file counts where two differ on a step",
            lambda t: parse_choice(t, "--prefer", ("first", "last")),
            group="grid",
        ),
        Option(
            "grid-crs",
            "grid_crs",
            "CRS",
            "reference system of a raster that names none, as EPSG:32744",
            group="grid",
        ),
        Option(
            "day-start",
            "day_start",
            "HH",
            "hour at which the days of daily steps begin (default: 0)",
            parse_hour,
            group="grid",
        ),
        Option(
            "utc-offset",
            "utc_offset",
            "HH:MM",
            "add to all times, as +05:30",
            parse_offset,
            group="grid",
        ),
        Option(
            "stamp",
            "stamp",
            "start|middle|end",
            "what time stamps mark, where the file "
            "leaves it open (default: the day, month, … that holds the stamp)",
            _choice("--stamp", "bavlo.core.steps", "STAMPS"),
            group="grid",
        ),
        Option(
            "during",
            "during",
            "FIRST..LAST",
            "report periods in this range, both ends included, as 2013..2015-06 (default: all)",
            parse_range,
            group="time",
        ),
        Option(
            "every",
            "every",
            "PERIOD",
            "step day pentad dekad month season year all, month "
            "initials (JFM, NDJFM), or MM-DD..MM-DD in each year (default: month)",
            group="time",
        ),
        Option(
            "combine",
            "combine",
            "HOW",
            "how steps become a period: total mean min max (default: total for amounts and "
            "rates, mean for states); running, for each step from the period's beginning; "
            '"degree-days above 10 degC"',
            parse_combine,
            group="time",
        ),
        Option(
            "year-start",
            "year_start",
            "MM",
            "month in which years begin, which then are called 2012/13 (default: 1)",
            parse_month,
            group="time",
        ),
        Option(
            "as",
            "kind",
            "KIND",
            "value, normal, anomaly, percent (of normal) or score (default: value)",
            lambda t: parse_choice(t, "--as", ("value", "normal", "anomaly", "percent", "score")),
            group="time",
        ),
        Option(
            "outside",
            "outside",
            "HOW",
            "cells outside the regions: missing, crop (to the box around the regions) or both "
            "(default: both)",
            lambda t: parse_choice(t, "--outside", ("missing", "crop", "both")),
            group="regions",
        ),
        Option(
            "onto",
            "onto",
            "GRID",
            "bring it onto the cells of this grid, by area-weighted means",
            lambda t: Path(t).expanduser(),
            group="space",
        ),
        Option(
            "same-span",
            "same_span",
            "",
            "compare a period still under way with the same days of the other years",
            group="time",
        ),
        Option(
            "complete",
            "complete",
            "wmo",
            "instead of --min-steps: monthly means lack at most 10 days and no 5 in a row, "
            "totals none",
            lambda t: parse_choice(t, "--complete", ("wmo",)),
            group="time",
        ),
        Option(
            "from-months",
            "from_months",
            "",
            "normals of seasons and years from the normals of their months, as WMO makes them",
            group="time",
        ),
        Option(
            "min-steps",
            "min_steps",
            "SHARE",
            "a period with a smaller share of its steps has no value (default: 1.0)",
            lambda t: parse_share(t, "--min-steps"),
            group="time",
        ),
        Option(
            "measure",
            "measures",
            "NAME,…",
            "how cells become one number: mean sum min max range std cv median pNN count "
            "majority shares volume (default: mean); repeatable",
            parse_measures,
            True,
            group="space",
        ),
        Option(
            "order",
            "order",
            "region|cell",
            "measure each step and then combine, or combine "
            "each cell and then measure (default: region for mean, cell for the rest)",
            _choice("--order", _REQUEST, "ORDERS"),
            group="space",
        ),
        Option(
            "min-area",
            "min_area",
            "SHARE",
            "a step with a smaller share of the region's area has no value (default: 0.5)",
            lambda t: parse_share(t, "--min-area"),
            group="space",
        ),
        Option(
            "unit",
            "unit",
            "UNIT",
            "unit of the output, as mm, inch, degC (default: the file's)",
            group="output",
        ),
        Option(
            "out",
            "outputs",
            "FILE",
            "write a table (.csv) or a chart (.png .svg .pdf); "
            "repeatable (default: a preview on the screen)",
            _paths,
            True,
            group="output",
        ),
        Option(
            "format",
            "format",
            "csv",
            "write the whole table to standard output",
            lambda t: parse_choice(t, "--format", ("csv",)),
            group="output",
        ),
        Option("replace", "replace", "", "write over files that exist", group="output"),
        Option("quiet", "quiet", "", "no progress, no notes", group="run"),
        Option("verbose", "verbose", "", "tell every choice behind the numbers", group="run"),
        Option(
            "jobs", "jobs", "N", "workers (default: the usable processors)", parse_jobs, group="run"
        ),
        Option(
            "cluster",
            "cluster",
            "ADDRESS",
            "compute on the Dask cluster with this scheduler, as tcp://host:8786; `local` starts "
            "one here",
            group="run",
        ),
        Option(
            "scratch",
            "scratch",
            "DIR",
            "folder for what does not fit in memory (default: the system's)",
            _folder,
            group="run",
        ),
        Option(
            "memory",
            "memory",
            "SIZE",
            "most memory to use, libraries included (default: 1GB)",
            parse_memory,
            group="run",
        ),
    )
}

GROUPS = {
    "extremes": "extremes",
    "regions": "regions",
    "grid": "grid",
    "time": "time",
    "space": "cells to regions",
    "output": "output",
    "run": "running",
}


def make_request(command: str, given: Mapping[str, Any]) -> Request:
    """A request from the texts that were given for each option.

    Parameters
    ----------
    given
        By option name (and `grids`), as text, a list of texts or a switch; missing ones keep
        their default.
    """
    import dataclasses

    from bavlo.core.periods import parse_every
    from bavlo.formats.grids.source import ReadOptions
    from bavlo.formats.regions import RegionOptions
    from bavlo.study.request import Request, parse_grids, split_by_grid

    fields: dict[str, Any] = {"jobs": usable_cpus(), "grids": parse_grids(given.get("grids") or [])}
    for name, value in given.items():
        if value is None or value is False or name == "grids":
            continue
        if name in ("variable", "input-unit"):
            field = name.replace("-", "_")
            plain, own = split_by_grid(value, field, fields["grids"])
            fields["by_grid"] = (*fields.get("by_grid", ()), *own)
            fields |= {} if plain is None else {field: plain}
        elif name not in ("quiet", "verbose", "files"):
            option = OPTIONS[name]
            fields[option.field] = value if value is True else option.parse(value)
    fields["bootstrap"] = not fields.pop("no_bootstrap", False)
    fields["own_rule"] = "min_steps" not in fields
    for part, kind in (("reading", ReadOptions), ("region_reading", RegionOptions)):
        names = {f.name for f in dataclasses.fields(kind)} & fields.keys()
        fields[part] = kind(**{name: fields.pop(name) for name in names})
    fields["rule"] = parse_every(fields.get("every") or "month", fields.pop("year_start", 1))
    request = Request(command, **fields)
    if not request.grids:
        raise RequestError("", "no grid was given", f"see `bavlo {command} --help`")
    if request.format and request.outputs:
        raise RequestError("--format", "writes to standard output, --out to files", "use one")
    return request
