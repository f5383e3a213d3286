"""The one table of options, from which command line, study files and Python fill requests in.

An option is one row: its name, the field of the request that it fills, what stands for its value,
what reads it, its default, the commands that take it, and its words for the help.
"""

from __future__ import annotations

import os
from typing import Any

from bavlo.request.option import Option, named

TABLES = "series normals anomalies extremes compare trends"
GRIDS = f"{TABLES} grid describe map"
REGIONS = GRIDS
COMPUTE = f"{TABLES} grid"

GROUPS = {
    "compare": "comparing",
    "trends": "trends",
    "extremes": "extremes",
    "row": "which row",
    "figure": "figure",
    "regions": "regions",
    "grid": "grid",
    "reading": "how its files are read",
    "time": "time",
    "space": "cells to regions",
    "output": "output",
    "run": "running",
}


def usable_cpus() -> int:
    """How many processors this process may use."""
    try:
        return len(os.sched_getaffinity(0))
    except AttributeError:
        return os.cpu_count() or 1


def _usual_combine() -> Any:
    return named("bavlo.core.values.combine:AS_USUAL")


# fmt: off
OPTIONS: tuple[Option, ...] = (
    Option("regions", "regions.regions", "FILE", "regions", None, f"{TABLES} grid map", "regions",
           "the regions: Shapefile (also zipped), GeoJSON, GeoPackage, …; or LON,LAT of a point",
           repeat=True,
           first="series normals anomalies extremes trends compare grid map"),
    Option("when", "conditions.when", "CONDITION",
           "bavlo.core.conditions.conditions:parse_condition", None, "extremes", "extremes",
           '"[VARIABLE] OP THRESHOLD [and …] [for N days]", as "rain >= 20 mm" or '
           '"tmax > p90 for 3 days"', repeat=True,
           first="extremes"),
    Option("count", "conditions.count", "NAME,…", "counts", "days", "extremes", "extremes",
           "{bavlo.core.conditions.counts:COUNTS}; see --list", repeat=True,
           first="extremes"),
    Option("index", "conditions.index", "NAME,…", "indices", None, "extremes", "extremes",
           "ETCCDI indices by name, as TX90p,Rx5day, or all; see --list", repeat=True,
           first="extremes"),
    Option("test-on", "conditions.test_on", "cell|region", "cell|region", None, "extremes",
           "extremes", "test each cell and take the mean over the area, or test the region's own "
           "series", "cell; of return levels region",
           first="extremes"),
    Option("spell-edge", "conditions.spell_edge", "run|cut", "run|cut", "run", "extremes",
           "extremes", "spells run on over the edges of adjoining periods and count where they "
           "end, or are cut there"),
    Option("events", "output.events", "FILE", "path", None, "extremes", "extremes",
           "write each spell in each region to this table",
           first="extremes"),
    Option("area-share", "conditions.area_share", "SHARE", "share", "0.25", "extremes", "extremes",
           "with --test-on cell, share of its area from which a region is in an event"),
    Option("wet-day", "conditions.wet_day", "DEPTH", "", "1 mm", "extremes", "extremes",
           "rain from which a day is wet"),
    Option("return-levels", "conditions.return_levels", "YEARS,…", "years", tuple, "extremes",
           "extremes", "values that are reached once in so many years, from yearly highest values"),
    Option("fit", "conditions.fit", "lmoments|ml", "lmoments|ml", "lmoments", "extremes",
           "extremes", "how the distribution of yearly highest values is fitted"),
    Option("against", "comparing.against", "NAME", "", None, "compare", "compare",
           "hold all others against this source", "every pair",
           first="compare"),
    Option("spread", "comparing.spread", "", "", False, "compare", "compare",
           "how far all sources lie apart in each period, and which one stands apart",
           first="compare"),
    Option("as", "comparing.quantity", "KIND", "value|anomaly", "value", "compare", "compare",
           "value, or anomaly: each source minus its own mean of that period of the year",
           first="compare"),
    Option("method", "trends.method", "NAME", "|bavlo.core.stats.trends:METHODS", "sen",
           "trends grid", "trends",
           "sen (Theil-Sen with Mann-Kendall), the same allowing for autocorrelation by hamed-rao "
           "or prewhiten, or ols (least squares with an error for AR(1))",
           first="trends"),
    Option("confidence", "trends.confidence", "SHARE", "share", "0.95", "trends grid", "trends",
           "of the interval; trends with p_adjusted below 1 minus this are significant",
           first="trends"),
    Option("region", "tracing.region", "NAME", "", None, "trace", "row",
           "the region of the row"),
    Option("period", "tracing.period", "P", "", None, "trace", "row", "its period, as its label"),
    Option("variable", "tracing.variable", "NAME", "", None, "trace", "row",
           "its variable, where the table has several"),
    Option("measure", "tracing.measure", "NAME", "", None, "trace", "row",
           "its measure, where the table has several"),
    Option("pick", "figure.pick", "COLUMN=VALUE", "picks", None, "trace", "row",
           "what stands in any other column, where several rows are left", repeat=True),
    Option("figure", "figure.figure", "NAME", "|bavlo.figures:DRAWINGS", None, "chart", "figure",
           "one of those below"),
    Option("column", "figure.column", "NAME", "", None, "map", "figure", "column to colour by",
           "value, of anomalies anomaly",
           first="map"),
    Option("period", "figure.period", "P", "texts", None, "map", "figure",
           "period or step, as its label; several give a map each, `all` all of them",
           "the last with values", repeat=True,
           first="map"),
    Option("pick", "figure.pick", "COLUMN=VALUE", "picks", None, "chart map", "figure",
           "which measure, condition, window, count, … where a table has several", repeat=True,
           first="map"),
    Option("classes", "figure.classes", "HOW", "", "equal", "map", "figure",
           "equal, quantile or limits such as 0,50,100",
           first="map"),
    Option("classes-of", "figure.classes_of", "VALUES", "shown|all", "shown", "map", "figure",
           "values that the classes are made of: those shown, or those of all periods, so that "
           "several maps compare: shown or all"),
    Option("beneath", "figure.beneath", "GRID", "grid_path", None, "map", "figure",
           "a grid to draw in grey under the regions",
           first="map"),
    Option("mark", "figure.mark", "max|min", "max|min|", None, "map", "figure",
           "mark where the highest or lowest value is, with its value",
           first="map"),
    Option("size", "figure.size", "WIDTHxHEIGHT", "pixels", None, "chart map", "figure",
           "size of the figure in pixels, as 1600x900", "1280x800; more where panels need it"),
    Option("panels", "figure.panels", "SCALE", "shared|own", "shared", "chart", "figure",
           "whether all panels share one scale, or each has its own: shared or own"),
    Option("describe", "", "", "", False, "chart map", "figure",
           "say in words what the figure shows, as its alternative text; --out may be left out"),
    Option("title", "figure.title", "TEXT", "", None, "chart map report", "figure", "heading",
           "made from the table",
           first="map"),
    Option("layer", "regions.reading.layer", "NAME", "", None, REGIONS, "regions",
           "layer of the region file, or sheet of a workbook, where it has several",
           first="describe"),
    Option("label", "regions.reading.label", "FIELD", "label", None, REGIONS, "regions",
           "field that names the regions (found where only one can be meant), or two, as F1,F2; "
           "of a zone raster a CSV with the names of its codes",
           first="series normals anomalies trends compare describe"),
    Option("only", "regions.reading.only", "NAME", "texts", None, f"{REGIONS} chart", "regions",
           "only this region, or those that match a pattern with * and ?", repeat=True),
    Option("except", "regions.reading.excluded", "NAME", "texts", None, REGIONS, "regions",
           "all but this region, or those that match a pattern with * and ?", repeat=True),
    Option("merge-by", "regions.reading.merge_by", "FIELD", "", None, REGIONS, "regions",
           "join the regions that have this field in common"),
    Option("encoding", "regions.reading.encoding", "NAME", "", None,
           "series normals anomalies compare trends describe map", "regions",
           "encoding of regions and tables that are text and neither UTF-8, UTF-16 nor Latin-1, "
           "as cp1251"),
    Option("strict", "regions.reading.strict", "", "", False, REGIONS, "regions",
           "refuse shapes that would be repaired"),
    Option("outside", "gridding.outside", "HOW", "missing|crop|both", None, "grid", "regions",
           "cells outside the regions: missing, crop (to the box around the regions) or both",
           "both"),
    Option("min-share", "gridding.min_share", "SHARE", "share", None, "grid", "regions",
           "share of a cell that regions must cover for it to stay; 0 keeps all that they touch",
           "0.5"),
    Option("make", "grids.make", "FORMULA", "bavlo.core.values.formula:parse_formula", None,
           COMPUTE, "grid", 'a grid made of named ones, as "tmean = (tmax + tmin) / 2"',
           repeat=True),
    Option("make-on", "grids.make_on", "STAGE", "|bavlo.core.values.stages:MAKE_ON", "step",
           "series normals anomalies compare trends grid", "grid",
           "work formulas out at each step of each cell, on each cell's value of the period, or on "
           "the regions' values: {bavlo.core.values.stages:MAKE_ON}"),
    Option("variable", "grids.reading.variable", "NAME", "", None, GRIDS, "grid",
           "variable, where a file or table has several; GRID=NAME for one of several grids",
           repeat=True,
           by_grid=True,
           first="series normals trends grid describe"),
    Option("columns", "grids.columns", "ROLE=NAME,…", "columns", None,
           "normals anomalies compare trends describe", "grid",
           "columns of a table of others: region, date (or year, month, day), variable, value, "
           "unit", "found by their names",
           repeat=True),
    Option("level", "grids.reading.level", "[DIM=]V", "levels", None, GRIDS, "grid",
           "value of a further dimension, where it has several: 850, or level=850, member=3, "
           "lead=24; all for each of its values, as member=all (in series, normals, anomalies)",
           repeat=True,
           first="describe"),
    Option("input-unit", "grids.reading.input_unit", "UNIT", "", None, GRIDS, "reading",
           "unit of the file, where it is silent or wrong; GRID=UNIT for one of several",
           repeat=True, by_grid=True,
           first="describe"),
    Option("kind", "grids.reading.kind", "KIND", "amount|rate|state|accumulated|count|class",
           None, GRIDS, "reading", "what the values are, where the file leaves it open or says it "
           "wrongly: amount, rate, state, accumulated (since a beginning), count or class; "
           "GRID=KIND for one of several",
           repeat=True, by_grid=True,
           first="describe"),
    Option("missing", "grids.reading.missing", "VALUE", "marks", None, GRIDS, "reading",
           "value that means no data and that the file does not declare, or none; GRID=VALUE for "
           "one of several", "marks such as -9999 are found where they cannot be values",
           repeat=True, by_grid=True, several=True,
           first="describe"),
    Option("scale", "grids.reading.scale", "FACTOR[,OFFSET]", "scaling", "1,0",
           f"{COMPUTE} describe", "reading", "multiply values by this, and then add the second "
           "(after the file's own packing)", "1", repeat=True, by_grid=True),
    Option("dates", "grids.reading.dates", "PATTERN", "", None, GRIDS, "reading",
           "where the date stands in file names, as rain_%Y%m%d or rain_%Y-%m.{dekad}; also "
           "{dekad36} {pentad} {pentad72} {pentad73} {composite8} {composite16}; or how tables of "
           "others write dates, as %d/%m/%Y", "found",
           repeat=True, by_grid=True,
           first="describe"),
    Option("prefer", "grids.reading.prefer", "first|last", "first|last", None,
           f"{COMPUTE} describe", "reading", "which file counts where two differ on a step"),
    Option("input-crs", "grids.reading.input_crs", "CRS", "", None, GRIDS, "reading",
           "reference system of a raster that names none, as EPSG:32744; regions=CRS of the "
           "regions, where their file names none or a wrong one", repeat=True, by_grid=True),
    Option("stamp", "grids.reading.stamp", "start|middle|end", "|bavlo.core.time.steps:STAMPS",
           None, f"{COMPUTE} describe", "reading", "what time stamps mark, where the file leaves "
           "it open", "the day, month, … that holds the stamp", repeat=True,
           by_grid=True),
    Option("day-start", "grids.reading.day_start", "HH", "hour", None, f"{COMPUTE} describe",
           "reading", "hour at which the days of daily steps begin", "0", repeat=True,
           by_grid=True),
    Option("utc-offset", "grids.reading.utc_offset", "HH:MM", "offset", "00:00",
           f"{COMPUTE} describe", "reading", "add to all times, as +05:30", repeat=True,
           by_grid=True),
    Option("during", "time.during", "FIRST..LAST", "bavlo.core.time.date_range:parse_range", None,
           COMPUTE, "time", "report periods in this range, both ends included, as 2013..2015-06",
           "all",
           first="series anomalies extremes trends compare grid"),
    Option("every", "time.every", "PERIOD,…", "everys", None, COMPUTE, "time",
           "{bavlo.core.time.periods:NAMED_KINDS}, month initials (JFM, NDJFM), or MM-DD..MM-DD "
           "in each year; several stand in one table", "month; indices year, grids step",
           repeat=True,
           first="series normals anomalies extremes trends compare grid"),
    Option("year-start", "time.year_start", "MM", "month", "1", COMPUTE, "time",
           "month in which years begin, which then are called 2012/13"),
    Option("combine", "time.combine", "HOW", "bavlo.core.values.combine:parse_combine",
           _usual_combine, "series normals anomalies compare trends grid", "time",
           "how steps become a period: {bavlo.core.values.combine:COMBINES}; running, for each "
           "step from the "
           'period\'s beginning; "degree-days above 10 degC"',
           "total for amounts and rates, mean for states", by_grid=True),
    Option("window", "time.window", "N,…", "windows", "1", "series anomalies", "time",
           "totals or means of the last N periods", repeat=True,
           first="anomalies"),
    Option("min-steps", "time.min_steps", "SHARE|wmo", "share_or_wmo", None, COMPUTE, "time",
           "a period with a smaller share of its steps has no value; wmo: monthly means lack at "
           "most 10 days and no 5 in a row, totals none",
           "1.0; indices have a rule of their own"),
    Option("same-span", "time.same_span", "", "", False, "series anomalies", "time",
           "compare a period still under way with the same days of the other years"),
    Option("base", "climate.base", "FIRST..LAST", "bavlo.core.stats.normals:parse_base", None,
           "anomalies extremes compare grid chart", "time",
           "years that normals, percentiles and means are taken from",
           "1991..2020 where 80 % of it is there; of charts all",
           first="anomalies compare"),
    Option("base", "climate.bases", "FIRST..LAST", "bavlo.core.stats.normals:parse_base", None,
           "normals", "time", "years that normals are taken from; of two both and their change",
           "1991..2020 where 80 % of it is there", repeat=True,
           first="normals"),
    Option("statistic", "climate.statistic", "NAME,…", "statistics", "mean,std", "normals", "time",
           "{bavlo.core.stats.normals:STATISTICS} over the base", repeat=True,
           first="normals"),
    Option("smooth", "climate.smooth", "DAYS", "odd_days", "1", "normals anomalies grid", "time",
           "running mean over daily normals, centred and circular", "none",
           first="normals"),
    Option("score", "climate.score", "KIND", "standard|spi", "standard", "anomalies", "time",
           "standard (anomaly / std of the base) or spi, the standardised precipitation index",
           first="anomalies"),
    Option("normals-from", "climate.normals_from", "WHAT", "periods|whole-years|months", "periods",
           "normals anomalies grid", "time", "periods: each that is complete; whole-years: only of "
           "years all of whose periods are; months (in normals): those of seasons and years from "
           "the normals of their months, as WMO makes them"),
    Option("as", "gridding.product", "KIND", "|bavlo.core.stats.normals:PRODUCTS", "value",
           "grid", "time", "{bavlo.core.stats.normals:PRODUCTS}",
           first="grid"),
    Option("measure", "measuring.measure", "NAME,…", "measures", "mean", TABLES, "space",
           "how cells become one number: {bavlo.core.stats.measures:MEASURES} pNN",
           repeat=True, by_grid=True, several=True,
           first="series"),
    Option("order", "measuring.order", "region|cell", "region|cell", None,
           "series normals anomalies compare trends", "space",
           "measure each step and then combine, or combine each cell and then measure",
           "region for mean and sum, cell for the rest"),
    Option("weight", "measuring.weight", "FILE", "path", None, TABLES, "space",
           "a further weight for each cell, such as people; where its unit does not tell, "
           "--kind weight=count (per cell) or weight=state (a density)"),
    Option("place", "measuring.place", "", "", False, "series", "space",
           "with --measure min or max, also the longitude and latitude of the cell that holds it"),
    Option("onto", "gridding.onto", "GRID", "grid_path", None, "grid", "space",
           "bring it onto the cells of this grid",
           first="grid"),
    Option("crs", "gridding.crs", "CRS", "", None, "grid", "space",
           "bring it onto square cells in this reference system, as EPSG:32744", "the grid's own"),
    Option("cell", "gridding.cell", "SIZE", "cell_size", None, "grid", "space",
           "size of these cells, in the unit of --crs",
           first="grid"),
    Option("box", "gridding.box", "W,S,E,N", "box", None, "grid", "space",
           "box that they cover, in the unit of --crs; it grows to whole cells", "the grid's"),
    Option("resample", "gridding.resample", "HOW", "|bavlo.core.space.resampling:RESAMPLE", None,
           "grid", "space", "{bavlo.core.space.resampling:RESAMPLE}", "area for amounts, rates, "
           "counts per cell and coarser states; linear for finer states; majority for classes",
           first="grid"),
    Option("min-area", "measuring.min_area", "SHARE", "share", None, COMPUTE, "space",
           "a step with a smaller share of the region's area has no value",
           "0.5; sum and volume need all cells that ever have data"),
    Option("unit", "measuring.unit", "UNIT", "", None, COMPUTE, "output",
           "unit of the output, as mm, inch, degC", "the file's", repeat=True,
           by_grid=True,
           first="series normals anomalies trends"),
    Option("out", "output.out", "FILE", "paths", None, TABLES, "output",
           "write a table (.csv .xlsx .parquet .json .nc), the regions with their values (.geojson "
           ".gpkg .shp.zip) or a chart (.png .svg .pdf); - writes the table to standard output",
           "a preview on the screen",
           repeat=True,
           first="series normals anomalies extremes trends compare"),
    Option("out", "output.out", "FILE", "paths", None, "trace", "output",
           "write all of it to a table (.csv .xlsx .parquet .json), or a picture of the region and "
           "its cells (.png .svg .pdf)", "a summary on the screen", repeat=True),
    Option("out", "output.out", "FILE", "paths", None, "report", "output", "an .html",
           repeat=True),
    Option("out", "output.out", "FILE", "paths", None, "grid", "output", "a .nc or .tif",
           repeat=True,
           first="grid"),
    Option("out", "output.out", "FILE", "paths", None, "chart map", "output",
           "a .png, .svg or .pdf", repeat=True,
           first="map"),
    Option("layout", "output.layout", "SHAPE", "long|by-time|by-region", "long", TABLES, "output",
           "one value a row; periods down and regions across; or regions down and periods across: "
           "long, by-time or by-region",
           first="series"),
    Option("format", "output.format", "csv|json", "csv|json", None, TABLES, "output",
           "of the table that --out - writes to standard output", "csv"),
    Option("format", "output.format", "json", "json|", None, "describe", "output",
           "for programs",
           first="describe"),
    Option("at", "grids.at", "LON,LAT", "place", None, "describe", "grid",
           "also tell the values of grids at a place",
           first="describe"),
    Option("replace", "output.replace", "", "", False, f"{COMPUTE} chart map trace report",
           "output", "write over files that exist",
           first="series normals anomalies extremes trends compare grid map"),
    Option("quiet", "", "", "", False, f"{COMPUTE} chart map trace", "run",
           "no progress, no notes"),
    Option("verbose", "", "", "", False, f"{COMPUTE} trace", "run",
           "tell every choice behind the numbers"),
    Option("jobs", "run.jobs", "N", "workers", usable_cpus, f"{COMPUTE} trace", "run", "workers",
           "the usable processors, three more with URLs"),
    Option("memory", "run.memory", "SIZE", "size", "1GB", f"{COMPUTE} trace", "run",
           "most memory to use, libraries included"),
    Option("cluster", "run.cluster", "ADDRESS", "", None, COMPUTE, "run",
           "compute on the Dask cluster with this scheduler, as tcp://host:8786; `local` starts "
           "one here"),
)
# fmt: on


def options_of(command: str) -> list[Option]:
    """The options that a command takes, in the order of the table."""
    return [option for option in OPTIONS if command in option.commands.split()]


def option_of_field(field: str) -> str:
    """The name of the option that fills a field of the request."""
    found = (option.name for option in OPTIONS if option.request_field == field)
    return next(found, field.replace("_", "-"))
