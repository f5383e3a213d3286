"""Bavlo from Python: a function for each command, with the options as keywords.

>>> import bavlo
>>> table = bavlo.series("rain_*.nc", regions="watersheds.geojson", every="month")  # doctest: +SKIP
>>> table.to_pandas()  # doctest: +SKIP

Written by `docs/make_api.py` from the table of options.
"""
# ruff: noqa: PLR0913

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, Literal, Never, TypeAlias, TypeVar

from bavlo import calls
from bavlo.calls import PathLike, Progress
from bavlo.interface import GeoShapes, Grid, GridLike, Table, Trace

if TYPE_CHECKING:
    from matplotlib.figure import Figure

RegionsLike = PathLike | GeoShapes | Mapping[str, Any] | Sequence[tuple[float, float]]
T = TypeVar("T")
OfEach: TypeAlias = T | Mapping[str, T]  # the same for all grids, or by their names


def series(
    *grids: GridLike | Mapping[str, GridLike],
    regions: RegionsLike | None = None,
    layer: str | None = None,
    label: str | None = None,
    only: str | Sequence[str] | None = None,
    except_: str | Sequence[str] | None = None,
    merge_by: str | None = None,
    encoding: str | None = None,
    strict: bool = False,
    make: str | Sequence[str] | None = None,
    make_on: Literal["step", "cell", "region"] = "step",
    variable: OfEach[str] | None = None,
    level: float | str | Sequence[str] | None = None,
    input_unit: OfEach[str] | None = None,
    kind: OfEach[Literal["amount", "rate", "state", "accumulated", "count", "class"]] | None = None,
    missing: OfEach[float | str | Sequence[float]] | None = None,
    scale: OfEach[float | tuple[float, float]] = 1,
    dates: OfEach[str] | None = None,
    prefer: Literal["first", "last"] | None = None,
    input_crs: OfEach[str] | None = None,
    stamp: OfEach[Literal["start", "middle", "end"]] | None = None,
    day_start: OfEach[int] | None = None,
    utc_offset: OfEach[str] = "00:00",
    during: str | None = None,
    every: str | Sequence[str] | None = None,
    year_start: int = 1,
    combine: OfEach[str] | None = None,
    window: int | Sequence[int] = 1,
    min_steps: float | Literal["wmo"] | None = None,
    same_span: bool = False,
    measure: OfEach[str | Sequence[str]] = "mean",
    order: Literal["region", "cell"] | None = None,
    weight: PathLike | None = None,
    place: bool = False,
    min_area: float | None = None,
    unit: OfEach[str] | None = None,
    jobs: int | None = None,
    memory: str | int = "1GB",
    cluster: str | None = None,
    progress: Progress | None = None,
    **unknown: Never,
) -> Table:
    """Values by region and period.

    Parameters
    ----------
    grids
        Paths, patterns, `bavlo.Array` or labelled arrays; several grids as a mapping of names to
        these: `series({"rain": "rain_*.nc", "tmax": "tmax_*.nc"}, …)`.
    regions
        The regions: Shapefile (also zipped), GeoJSON, GeoPackage, …; or LON,LAT of a point.
    layer
        Layer of the region file, or sheet of a workbook, where it has several.
    label
        Field that names the regions (found where only one can be meant), or two, as F1,F2; of a
        zone raster a CSV with the names of its codes.
    only
        Only this region, or those that match a pattern with * and ?.
    except_
        All but this region, or those that match a pattern with * and ?.
    merge_by
        Join the regions that have this field in common.
    encoding
        Encoding of regions and tables that are text and neither UTF-8, UTF-16 nor Latin-1, as
        cp1251.
    strict
        Refuse shapes that would be repaired.
    make
        A grid made of named ones, as "tmean = (tmax + tmin) / 2".
    make_on
        Work formulas out at each step of each cell, on each cell's value of the period, or on
        the regions' values: step cell region (default: step).
    variable
        Variable, where a file or table has several; a mapping of grids to it.
    level
        Value of a further dimension, where it has several: 850, or level=850, member=3,
        lead=24; all for each of its values, as member=all (in series, normals, anomalies).
    input_unit
        Unit of the file, where it is silent or wrong; a mapping of grids to it.
    kind
        What the values are, where the file leaves it open or says it wrongly: amount, rate,
        state, accumulated (since a beginning), count or class; a mapping of grids to it.
    missing
        Value that means no data and that the file does not declare, or none; a mapping of grids
        to it (default: marks such as -9999 are found where they cannot be values).
    scale
        Multiply values by this, and then add the second (after the file's own packing)
        (default: 1).
    dates
        Where the date stands in file names, as rain_%Y%m%d or rain_%Y-%m.{dekad}; also
        {dekad36} {pentad} {pentad72} {pentad73} {composite8} {composite16}; or how tables of
        others write dates, as %d/%m/%Y (default: found).
    prefer
        Which file counts where two differ on a step.
    input_crs
        Reference system of a raster that names none, as EPSG:32744; regions=CRS of the regions,
        where their file names none or a wrong one.
    stamp
        What time stamps mark, where the file leaves it open (default: the day, month, … that
        holds the stamp).
    day_start
        Hour at which the days of daily steps begin (default: 0).
    utc_offset
        Add to all times, as +05:30 (default: 00:00).
    during
        Report periods in this range, both ends included, as 2013..2015-06 (default: all).
    every
        Step day pentad dekad month season year all, month initials (JFM, NDJFM), or MM-DD..MM-
        DD in each year; several stand in one table (default: month; indices year, grids step).
    year_start
        Month in which years begin, which then are called 2012/13 (default: 1).
    combine
        How steps become a period: total mean min max; running, for each step from the period's
        beginning; "degree-days above 10 degC" (default: total for amounts and rates, mean for
        states).
    window
        Totals or means of the last N periods (default: 1).
    min_steps
        A period with a smaller share of its steps has no value; wmo: monthly means lack at most
        10 days and no 5 in a row, totals none (default: 1.0; indices have a rule of their own).
    same_span
        Compare a period still under way with the same days of the other years.
    measure
        How cells become one number: mean min max range std cv sum count volume majority shares
        median bilinear pNN (default: mean).
    order
        Measure each step and then combine, or combine each cell and then measure (default:
        region for mean and sum, cell for the rest).
    weight
        A further weight for each cell, such as people; where its unit does not tell, `kind`
        weight=count (per cell) or weight=state (a density).
    place
        With `measure` min or max, also the longitude and latitude of the cell that holds it.
    min_area
        A step with a smaller share of the region's area has no value (default: 0.5; sum and
        volume need all cells that ever have data).
    unit
        Unit of the output, as mm, inch, degC (default: the file's).
    jobs
        Workers (default: the usable processors, three more with URLs).
    memory
        Most memory to use, libraries included (default: 1GB).
    cluster
        Compute on the Dask cluster with this scheduler, as tcp://host:8786; `local` starts one
        here.
    progress
        Called with how much is done and how much there is in all.

    Raises
    ------
    BavloError
    """
    return calls.table_call("series", locals())


def normals(
    *grids: GridLike | Mapping[str, GridLike],
    regions: RegionsLike | None = None,
    layer: str | None = None,
    label: str | None = None,
    only: str | Sequence[str] | None = None,
    except_: str | Sequence[str] | None = None,
    merge_by: str | None = None,
    encoding: str | None = None,
    strict: bool = False,
    make: str | Sequence[str] | None = None,
    make_on: Literal["step", "cell", "region"] = "step",
    variable: OfEach[str] | None = None,
    columns: Mapping[str, str] | None = None,
    level: float | str | Sequence[str] | None = None,
    input_unit: OfEach[str] | None = None,
    kind: OfEach[Literal["amount", "rate", "state", "accumulated", "count", "class"]] | None = None,
    missing: OfEach[float | str | Sequence[float]] | None = None,
    scale: OfEach[float | tuple[float, float]] = 1,
    dates: OfEach[str] | None = None,
    prefer: Literal["first", "last"] | None = None,
    input_crs: OfEach[str] | None = None,
    stamp: OfEach[Literal["start", "middle", "end"]] | None = None,
    day_start: OfEach[int] | None = None,
    utc_offset: OfEach[str] = "00:00",
    during: str | None = None,
    every: str | Sequence[str] | None = None,
    year_start: int = 1,
    combine: OfEach[str] | None = None,
    min_steps: float | Literal["wmo"] | None = None,
    base: str | tuple[int, int] | Sequence[str | tuple[int, int]] | None = None,
    statistic: str | Sequence[str] = "mean,std",
    smooth: int = 1,
    normals_from: Literal["periods", "whole-years", "months"] = "periods",
    measure: OfEach[str | Sequence[str]] = "mean",
    order: Literal["region", "cell"] | None = None,
    weight: PathLike | None = None,
    min_area: float | None = None,
    unit: OfEach[str] | None = None,
    jobs: int | None = None,
    memory: str | int = "1GB",
    cluster: str | None = None,
    progress: Progress | None = None,
    **unknown: Never,
) -> Table:
    """The climatology, by region and period of the year.

    Parameters
    ----------
    grids
        Paths, patterns, `bavlo.Array` or labelled arrays; several grids as a mapping of names to
        these; or a `Table` of series: `series({"rain": "rain_*.nc", "tmax": "tmax_*.nc"}, …)`.
    regions
        The regions: Shapefile (also zipped), GeoJSON, GeoPackage, …; or LON,LAT of a point.
    layer
        Layer of the region file, or sheet of a workbook, where it has several.
    label
        Field that names the regions (found where only one can be meant), or two, as F1,F2; of a
        zone raster a CSV with the names of its codes.
    only
        Only this region, or those that match a pattern with * and ?.
    except_
        All but this region, or those that match a pattern with * and ?.
    merge_by
        Join the regions that have this field in common.
    encoding
        Encoding of regions and tables that are text and neither UTF-8, UTF-16 nor Latin-1, as
        cp1251.
    strict
        Refuse shapes that would be repaired.
    make
        A grid made of named ones, as "tmean = (tmax + tmin) / 2".
    make_on
        Work formulas out at each step of each cell, on each cell's value of the period, or on
        the regions' values: step cell region (default: step).
    variable
        Variable, where a file or table has several; a mapping of grids to it.
    columns
        Columns of a table of others: region, date (or year, month, day), variable, value, unit
        (default: found by their names).
    level
        Value of a further dimension, where it has several: 850, or level=850, member=3,
        lead=24; all for each of its values, as member=all (in series, normals, anomalies).
    input_unit
        Unit of the file, where it is silent or wrong; a mapping of grids to it.
    kind
        What the values are, where the file leaves it open or says it wrongly: amount, rate,
        state, accumulated (since a beginning), count or class; a mapping of grids to it.
    missing
        Value that means no data and that the file does not declare, or none; a mapping of grids
        to it (default: marks such as -9999 are found where they cannot be values).
    scale
        Multiply values by this, and then add the second (after the file's own packing)
        (default: 1).
    dates
        Where the date stands in file names, as rain_%Y%m%d or rain_%Y-%m.{dekad}; also
        {dekad36} {pentad} {pentad72} {pentad73} {composite8} {composite16}; or how tables of
        others write dates, as %d/%m/%Y (default: found).
    prefer
        Which file counts where two differ on a step.
    input_crs
        Reference system of a raster that names none, as EPSG:32744; regions=CRS of the regions,
        where their file names none or a wrong one.
    stamp
        What time stamps mark, where the file leaves it open (default: the day, month, … that
        holds the stamp).
    day_start
        Hour at which the days of daily steps begin (default: 0).
    utc_offset
        Add to all times, as +05:30 (default: 00:00).
    during
        Report periods in this range, both ends included, as 2013..2015-06 (default: all).
    every
        Step day pentad dekad month season year all, month initials (JFM, NDJFM), or MM-DD..MM-
        DD in each year; several stand in one table (default: month; indices year, grids step).
    year_start
        Month in which years begin, which then are called 2012/13 (default: 1).
    combine
        How steps become a period: total mean min max; running, for each step from the period's
        beginning; "degree-days above 10 degC" (default: total for amounts and rates, mean for
        states).
    min_steps
        A period with a smaller share of its steps has no value; wmo: monthly means lack at most
        10 days and no 5 in a row, totals none (default: 1.0; indices have a rule of their own).
    base
        Years that normals are taken from; of two both and their change (default: 1991..2020
        where 80 % of it is there).
    statistic
        Mean std min max pNN over the base (default: mean,std).
    smooth
        Running mean over daily normals, centred and circular (default: none).
    normals_from
        Periods: each that is complete; whole-years: only of years all of whose periods are;
        months (in normals): those of seasons and years from the normals of their months, as WMO
        makes them (default: periods).
    measure
        How cells become one number: mean min max range std cv sum count volume majority shares
        median bilinear pNN (default: mean).
    order
        Measure each step and then combine, or combine each cell and then measure (default:
        region for mean and sum, cell for the rest).
    weight
        A further weight for each cell, such as people; where its unit does not tell, `kind`
        weight=count (per cell) or weight=state (a density).
    min_area
        A step with a smaller share of the region's area has no value (default: 0.5; sum and
        volume need all cells that ever have data).
    unit
        Unit of the output, as mm, inch, degC (default: the file's).
    jobs
        Workers (default: the usable processors, three more with URLs).
    memory
        Most memory to use, libraries included (default: 1GB).
    cluster
        Compute on the Dask cluster with this scheduler, as tcp://host:8786; `local` starts one
        here.
    progress
        Called with how much is done and how much there is in all.

    Raises
    ------
    BavloError
    """
    return calls.table_call("normals", locals())


def anomalies(
    *grids: GridLike | Mapping[str, GridLike],
    regions: RegionsLike | None = None,
    layer: str | None = None,
    label: str | None = None,
    only: str | Sequence[str] | None = None,
    except_: str | Sequence[str] | None = None,
    merge_by: str | None = None,
    encoding: str | None = None,
    strict: bool = False,
    make: str | Sequence[str] | None = None,
    make_on: Literal["step", "cell", "region"] = "step",
    variable: OfEach[str] | None = None,
    columns: Mapping[str, str] | None = None,
    level: float | str | Sequence[str] | None = None,
    input_unit: OfEach[str] | None = None,
    kind: OfEach[Literal["amount", "rate", "state", "accumulated", "count", "class"]] | None = None,
    missing: OfEach[float | str | Sequence[float]] | None = None,
    scale: OfEach[float | tuple[float, float]] = 1,
    dates: OfEach[str] | None = None,
    prefer: Literal["first", "last"] | None = None,
    input_crs: OfEach[str] | None = None,
    stamp: OfEach[Literal["start", "middle", "end"]] | None = None,
    day_start: OfEach[int] | None = None,
    utc_offset: OfEach[str] = "00:00",
    during: str | None = None,
    every: str | Sequence[str] | None = None,
    year_start: int = 1,
    combine: OfEach[str] | None = None,
    window: int | Sequence[int] = 1,
    min_steps: float | Literal["wmo"] | None = None,
    same_span: bool = False,
    base: str | tuple[int, int] | None = None,
    smooth: int = 1,
    score: Literal["standard", "spi"] = "standard",
    normals_from: Literal["periods", "whole-years", "months"] = "periods",
    measure: OfEach[str | Sequence[str]] = "mean",
    order: Literal["region", "cell"] | None = None,
    weight: PathLike | None = None,
    min_area: float | None = None,
    unit: OfEach[str] | None = None,
    jobs: int | None = None,
    memory: str | int = "1GB",
    cluster: str | None = None,
    progress: Progress | None = None,
    **unknown: Never,
) -> Table:
    """Value, normal, anomaly, score and rank of every period.

    Parameters
    ----------
    grids
        Paths, patterns, `bavlo.Array` or labelled arrays; several grids as a mapping of names to
        these; or a `Table` of series: `series({"rain": "rain_*.nc", "tmax": "tmax_*.nc"}, …)`.
    regions
        The regions: Shapefile (also zipped), GeoJSON, GeoPackage, …; or LON,LAT of a point.
    layer
        Layer of the region file, or sheet of a workbook, where it has several.
    label
        Field that names the regions (found where only one can be meant), or two, as F1,F2; of a
        zone raster a CSV with the names of its codes.
    only
        Only this region, or those that match a pattern with * and ?.
    except_
        All but this region, or those that match a pattern with * and ?.
    merge_by
        Join the regions that have this field in common.
    encoding
        Encoding of regions and tables that are text and neither UTF-8, UTF-16 nor Latin-1, as
        cp1251.
    strict
        Refuse shapes that would be repaired.
    make
        A grid made of named ones, as "tmean = (tmax + tmin) / 2".
    make_on
        Work formulas out at each step of each cell, on each cell's value of the period, or on
        the regions' values: step cell region (default: step).
    variable
        Variable, where a file or table has several; a mapping of grids to it.
    columns
        Columns of a table of others: region, date (or year, month, day), variable, value, unit
        (default: found by their names).
    level
        Value of a further dimension, where it has several: 850, or level=850, member=3,
        lead=24; all for each of its values, as member=all (in series, normals, anomalies).
    input_unit
        Unit of the file, where it is silent or wrong; a mapping of grids to it.
    kind
        What the values are, where the file leaves it open or says it wrongly: amount, rate,
        state, accumulated (since a beginning), count or class; a mapping of grids to it.
    missing
        Value that means no data and that the file does not declare, or none; a mapping of grids
        to it (default: marks such as -9999 are found where they cannot be values).
    scale
        Multiply values by this, and then add the second (after the file's own packing)
        (default: 1).
    dates
        Where the date stands in file names, as rain_%Y%m%d or rain_%Y-%m.{dekad}; also
        {dekad36} {pentad} {pentad72} {pentad73} {composite8} {composite16}; or how tables of
        others write dates, as %d/%m/%Y (default: found).
    prefer
        Which file counts where two differ on a step.
    input_crs
        Reference system of a raster that names none, as EPSG:32744; regions=CRS of the regions,
        where their file names none or a wrong one.
    stamp
        What time stamps mark, where the file leaves it open (default: the day, month, … that
        holds the stamp).
    day_start
        Hour at which the days of daily steps begin (default: 0).
    utc_offset
        Add to all times, as +05:30 (default: 00:00).
    during
        Report periods in this range, both ends included, as 2013..2015-06 (default: all).
    every
        Step day pentad dekad month season year all, month initials (JFM, NDJFM), or MM-DD..MM-
        DD in each year; several stand in one table (default: month; indices year, grids step).
    year_start
        Month in which years begin, which then are called 2012/13 (default: 1).
    combine
        How steps become a period: total mean min max; running, for each step from the period's
        beginning; "degree-days above 10 degC" (default: total for amounts and rates, mean for
        states).
    window
        Totals or means of the last N periods (default: 1).
    min_steps
        A period with a smaller share of its steps has no value; wmo: monthly means lack at most
        10 days and no 5 in a row, totals none (default: 1.0; indices have a rule of their own).
    same_span
        Compare a period still under way with the same days of the other years.
    base
        Years that normals, percentiles and means are taken from (default: 1991..2020 where 80 %
        of it is there; of charts all).
    smooth
        Running mean over daily normals, centred and circular (default: none).
    score
        Standard (anomaly / std of the base) or spi, the standardised precipitation index
        (default: standard).
    normals_from
        Periods: each that is complete; whole-years: only of years all of whose periods are;
        months (in normals): those of seasons and years from the normals of their months, as WMO
        makes them (default: periods).
    measure
        How cells become one number: mean min max range std cv sum count volume majority shares
        median bilinear pNN (default: mean).
    order
        Measure each step and then combine, or combine each cell and then measure (default:
        region for mean and sum, cell for the rest).
    weight
        A further weight for each cell, such as people; where its unit does not tell, `kind`
        weight=count (per cell) or weight=state (a density).
    min_area
        A step with a smaller share of the region's area has no value (default: 0.5; sum and
        volume need all cells that ever have data).
    unit
        Unit of the output, as mm, inch, degC (default: the file's).
    jobs
        Workers (default: the usable processors, three more with URLs).
    memory
        Most memory to use, libraries included (default: 1GB).
    cluster
        Compute on the Dask cluster with this scheduler, as tcp://host:8786; `local` starts one
        here.
    progress
        Called with how much is done and how much there is in all.

    Raises
    ------
    BavloError
    """
    return calls.table_call("anomalies", locals())


def extremes(
    *grids: GridLike | Mapping[str, GridLike],
    regions: RegionsLike | None = None,
    when: str | Sequence[str] | None = None,
    count: str | Sequence[str] = "days",
    index: str | Sequence[str] | None = None,
    test_on: Literal["cell", "region"] | None = None,
    spell_edge: Literal["run", "cut"] = "run",
    events: bool = False,
    area_share: float = 0.25,
    wet_day: str = "1 mm",
    return_levels: int | Sequence[int] | None = None,
    fit: Literal["lmoments", "ml"] = "lmoments",
    layer: str | None = None,
    label: str | None = None,
    only: str | Sequence[str] | None = None,
    except_: str | Sequence[str] | None = None,
    merge_by: str | None = None,
    strict: bool = False,
    make: str | Sequence[str] | None = None,
    variable: OfEach[str] | None = None,
    level: float | str | Sequence[str] | None = None,
    input_unit: OfEach[str] | None = None,
    kind: OfEach[Literal["amount", "rate", "state", "accumulated", "count", "class"]] | None = None,
    missing: OfEach[float | str | Sequence[float]] | None = None,
    scale: OfEach[float | tuple[float, float]] = 1,
    dates: OfEach[str] | None = None,
    prefer: Literal["first", "last"] | None = None,
    input_crs: OfEach[str] | None = None,
    stamp: OfEach[Literal["start", "middle", "end"]] | None = None,
    day_start: OfEach[int] | None = None,
    utc_offset: OfEach[str] = "00:00",
    during: str | None = None,
    every: str | Sequence[str] | None = None,
    year_start: int = 1,
    min_steps: float | Literal["wmo"] | None = None,
    base: str | tuple[int, int] | None = None,
    measure: OfEach[str | Sequence[str]] = "mean",
    weight: PathLike | None = None,
    min_area: float | None = None,
    unit: OfEach[str] | None = None,
    jobs: int | None = None,
    memory: str | int = "1GB",
    cluster: str | None = None,
    progress: Progress | None = None,
    **unknown: Never,
) -> Table:
    """Counts of conditions, indices or return levels.

    Parameters
    ----------
    grids
        Paths, patterns, `bavlo.Array` or labelled arrays; several grids as a mapping of names to
        these: `series({"rain": "rain_*.nc", "tmax": "tmax_*.nc"}, …)`.
    regions
        The regions: Shapefile (also zipped), GeoJSON, GeoPackage, …; or LON,LAT of a point.
    when
        "[VARIABLE] OP THRESHOLD [and …] [for N days]", as "rain >= 20 mm" or "tmax > p90 for 3
        days".
    count
        Days share spells longest total excess first last; see `list` (default: days).
    index
        ETCCDI indices by name, as TX90p,Rx5day, or all; see `list`.
    test_on
        Test each cell and take the mean over the area, or test the region's own series
        (default: cell; of return levels region).
    spell_edge
        Spells run on over the edges of adjoining periods and count where they end, or are cut
        there (default: run).
    events
        Write each spell in each region to this table.
    area_share
        With `test_on` cell, share of its area from which a region is in an event (default:
        0.25).
    wet_day
        Rain from which a day is wet (default: 1 mm).
    return_levels
        Values that are reached once in so many years, from yearly highest values.
    fit
        How the distribution of yearly highest values is fitted (default: lmoments).
    layer
        Layer of the region file, or sheet of a workbook, where it has several.
    label
        Field that names the regions (found where only one can be meant), or two, as F1,F2; of a
        zone raster a CSV with the names of its codes.
    only
        Only this region, or those that match a pattern with * and ?.
    except_
        All but this region, or those that match a pattern with * and ?.
    merge_by
        Join the regions that have this field in common.
    strict
        Refuse shapes that would be repaired.
    make
        A grid made of named ones, as "tmean = (tmax + tmin) / 2".
    variable
        Variable, where a file or table has several; a mapping of grids to it.
    level
        Value of a further dimension, where it has several: 850, or level=850, member=3,
        lead=24; all for each of its values, as member=all (in series, normals, anomalies).
    input_unit
        Unit of the file, where it is silent or wrong; a mapping of grids to it.
    kind
        What the values are, where the file leaves it open or says it wrongly: amount, rate,
        state, accumulated (since a beginning), count or class; a mapping of grids to it.
    missing
        Value that means no data and that the file does not declare, or none; a mapping of grids
        to it (default: marks such as -9999 are found where they cannot be values).
    scale
        Multiply values by this, and then add the second (after the file's own packing)
        (default: 1).
    dates
        Where the date stands in file names, as rain_%Y%m%d or rain_%Y-%m.{dekad}; also
        {dekad36} {pentad} {pentad72} {pentad73} {composite8} {composite16}; or how tables of
        others write dates, as %d/%m/%Y (default: found).
    prefer
        Which file counts where two differ on a step.
    input_crs
        Reference system of a raster that names none, as EPSG:32744; regions=CRS of the regions,
        where their file names none or a wrong one.
    stamp
        What time stamps mark, where the file leaves it open (default: the day, month, … that
        holds the stamp).
    day_start
        Hour at which the days of daily steps begin (default: 0).
    utc_offset
        Add to all times, as +05:30 (default: 00:00).
    during
        Report periods in this range, both ends included, as 2013..2015-06 (default: all).
    every
        Step day pentad dekad month season year all, month initials (JFM, NDJFM), or MM-DD..MM-
        DD in each year; several stand in one table (default: month; indices year, grids step).
    year_start
        Month in which years begin, which then are called 2012/13 (default: 1).
    min_steps
        A period with a smaller share of its steps has no value; wmo: monthly means lack at most
        10 days and no 5 in a row, totals none (default: 1.0; indices have a rule of their own).
    base
        Years that normals, percentiles and means are taken from (default: 1991..2020 where 80 %
        of it is there; of charts all).
    measure
        How cells become one number: mean min max range std cv sum count volume majority shares
        median bilinear pNN (default: mean).
    weight
        A further weight for each cell, such as people; where its unit does not tell, `kind`
        weight=count (per cell) or weight=state (a density).
    min_area
        A step with a smaller share of the region's area has no value (default: 0.5; sum and
        volume need all cells that ever have data).
    unit
        Unit of the output, as mm, inch, degC (default: the file's).
    jobs
        Workers (default: the usable processors, three more with URLs).
    memory
        Most memory to use, libraries included (default: 1GB).
    cluster
        Compute on the Dask cluster with this scheduler, as tcp://host:8786; `local` starts one
        here.
    progress
        Called with how much is done and how much there is in all.

    Raises
    ------
    BavloError
    """
    return calls.table_call("extremes", locals())


def trends(
    *grids: GridLike | Mapping[str, GridLike],
    regions: RegionsLike | None = None,
    method: Literal["sen", "hamed-rao", "prewhiten", "ols"] = "sen",
    confidence: float = 0.95,
    layer: str | None = None,
    label: str | None = None,
    only: str | Sequence[str] | None = None,
    except_: str | Sequence[str] | None = None,
    merge_by: str | None = None,
    encoding: str | None = None,
    strict: bool = False,
    make: str | Sequence[str] | None = None,
    make_on: Literal["step", "cell", "region"] = "step",
    variable: OfEach[str] | None = None,
    columns: Mapping[str, str] | None = None,
    level: float | str | Sequence[str] | None = None,
    input_unit: OfEach[str] | None = None,
    kind: OfEach[Literal["amount", "rate", "state", "accumulated", "count", "class"]] | None = None,
    missing: OfEach[float | str | Sequence[float]] | None = None,
    scale: OfEach[float | tuple[float, float]] = 1,
    dates: OfEach[str] | None = None,
    prefer: Literal["first", "last"] | None = None,
    input_crs: OfEach[str] | None = None,
    stamp: OfEach[Literal["start", "middle", "end"]] | None = None,
    day_start: OfEach[int] | None = None,
    utc_offset: OfEach[str] = "00:00",
    during: str | None = None,
    every: str | Sequence[str] | None = None,
    year_start: int = 1,
    combine: OfEach[str] | None = None,
    min_steps: float | Literal["wmo"] | None = None,
    measure: OfEach[str | Sequence[str]] = "mean",
    order: Literal["region", "cell"] | None = None,
    weight: PathLike | None = None,
    min_area: float | None = None,
    unit: OfEach[str] | None = None,
    jobs: int | None = None,
    memory: str | int = "1GB",
    cluster: str | None = None,
    progress: Progress | None = None,
    **unknown: Never,
) -> Table:
    """Slope, interval and significance, by region and period of the year.

    Parameters
    ----------
    grids
        Paths, patterns, `bavlo.Array` or labelled arrays; several grids as a mapping of names to
        these; or a `Table` of series: `series({"rain": "rain_*.nc", "tmax": "tmax_*.nc"}, …)`.
    regions
        The regions: Shapefile (also zipped), GeoJSON, GeoPackage, …; or LON,LAT of a point.
    method
        Sen (Theil-Sen with Mann-Kendall), the same allowing for autocorrelation by hamed-rao or
        prewhiten, or ols (least squares with an error for AR(1)) (default: sen).
    confidence
        Of the interval; trends with p_adjusted below 1 minus this are significant (default:
        0.95).
    layer
        Layer of the region file, or sheet of a workbook, where it has several.
    label
        Field that names the regions (found where only one can be meant), or two, as F1,F2; of a
        zone raster a CSV with the names of its codes.
    only
        Only this region, or those that match a pattern with * and ?.
    except_
        All but this region, or those that match a pattern with * and ?.
    merge_by
        Join the regions that have this field in common.
    encoding
        Encoding of regions and tables that are text and neither UTF-8, UTF-16 nor Latin-1, as
        cp1251.
    strict
        Refuse shapes that would be repaired.
    make
        A grid made of named ones, as "tmean = (tmax + tmin) / 2".
    make_on
        Work formulas out at each step of each cell, on each cell's value of the period, or on
        the regions' values: step cell region (default: step).
    variable
        Variable, where a file or table has several; a mapping of grids to it.
    columns
        Columns of a table of others: region, date (or year, month, day), variable, value, unit
        (default: found by their names).
    level
        Value of a further dimension, where it has several: 850, or level=850, member=3,
        lead=24; all for each of its values, as member=all (in series, normals, anomalies).
    input_unit
        Unit of the file, where it is silent or wrong; a mapping of grids to it.
    kind
        What the values are, where the file leaves it open or says it wrongly: amount, rate,
        state, accumulated (since a beginning), count or class; a mapping of grids to it.
    missing
        Value that means no data and that the file does not declare, or none; a mapping of grids
        to it (default: marks such as -9999 are found where they cannot be values).
    scale
        Multiply values by this, and then add the second (after the file's own packing)
        (default: 1).
    dates
        Where the date stands in file names, as rain_%Y%m%d or rain_%Y-%m.{dekad}; also
        {dekad36} {pentad} {pentad72} {pentad73} {composite8} {composite16}; or how tables of
        others write dates, as %d/%m/%Y (default: found).
    prefer
        Which file counts where two differ on a step.
    input_crs
        Reference system of a raster that names none, as EPSG:32744; regions=CRS of the regions,
        where their file names none or a wrong one.
    stamp
        What time stamps mark, where the file leaves it open (default: the day, month, … that
        holds the stamp).
    day_start
        Hour at which the days of daily steps begin (default: 0).
    utc_offset
        Add to all times, as +05:30 (default: 00:00).
    during
        Report periods in this range, both ends included, as 2013..2015-06 (default: all).
    every
        Step day pentad dekad month season year all, month initials (JFM, NDJFM), or MM-DD..MM-
        DD in each year; several stand in one table (default: month; indices year, grids step).
    year_start
        Month in which years begin, which then are called 2012/13 (default: 1).
    combine
        How steps become a period: total mean min max; running, for each step from the period's
        beginning; "degree-days above 10 degC" (default: total for amounts and rates, mean for
        states).
    min_steps
        A period with a smaller share of its steps has no value; wmo: monthly means lack at most
        10 days and no 5 in a row, totals none (default: 1.0; indices have a rule of their own).
    measure
        How cells become one number: mean min max range std cv sum count volume majority shares
        median bilinear pNN (default: mean).
    order
        Measure each step and then combine, or combine each cell and then measure (default:
        region for mean and sum, cell for the rest).
    weight
        A further weight for each cell, such as people; where its unit does not tell, `kind`
        weight=count (per cell) or weight=state (a density).
    min_area
        A step with a smaller share of the region's area has no value (default: 0.5; sum and
        volume need all cells that ever have data).
    unit
        Unit of the output, as mm, inch, degC (default: the file's).
    jobs
        Workers (default: the usable processors, three more with URLs).
    memory
        Most memory to use, libraries included (default: 1GB).
    cluster
        Compute on the Dask cluster with this scheduler, as tcp://host:8786; `local` starts one
        here.
    progress
        Called with how much is done and how much there is in all.

    Raises
    ------
    BavloError
    """
    return calls.table_call("trends", locals())


def compare(
    *grids: GridLike | Mapping[str, GridLike],
    regions: RegionsLike | None = None,
    against: str | None = None,
    spread: bool = False,
    as_: Literal["value", "anomaly"] = "value",
    layer: str | None = None,
    label: str | None = None,
    only: str | Sequence[str] | None = None,
    except_: str | Sequence[str] | None = None,
    merge_by: str | None = None,
    encoding: str | None = None,
    strict: bool = False,
    make: str | Sequence[str] | None = None,
    make_on: Literal["step", "cell", "region"] = "step",
    variable: OfEach[str] | None = None,
    columns: Mapping[str, str] | None = None,
    level: float | str | Sequence[str] | None = None,
    input_unit: OfEach[str] | None = None,
    kind: OfEach[Literal["amount", "rate", "state", "accumulated", "count", "class"]] | None = None,
    missing: OfEach[float | str | Sequence[float]] | None = None,
    scale: OfEach[float | tuple[float, float]] = 1,
    dates: OfEach[str] | None = None,
    prefer: Literal["first", "last"] | None = None,
    input_crs: OfEach[str] | None = None,
    stamp: OfEach[Literal["start", "middle", "end"]] | None = None,
    day_start: OfEach[int] | None = None,
    utc_offset: OfEach[str] = "00:00",
    during: str | None = None,
    every: str | Sequence[str] | None = None,
    year_start: int = 1,
    combine: OfEach[str] | None = None,
    min_steps: float | Literal["wmo"] | None = None,
    base: str | tuple[int, int] | None = None,
    measure: OfEach[str | Sequence[str]] = "mean",
    order: Literal["region", "cell"] | None = None,
    weight: PathLike | None = None,
    min_area: float | None = None,
    unit: OfEach[str] | None = None,
    jobs: int | None = None,
    memory: str | int = "1GB",
    cluster: str | None = None,
    progress: Progress | None = None,
    **unknown: Never,
) -> Table:
    """How well sources agree.

    Parameters
    ----------
    grids
        Paths, patterns, `bavlo.Array` or labelled arrays; several grids as a mapping of names to
        these; or a `Table` of series: `series({"rain": "rain_*.nc", "tmax": "tmax_*.nc"}, …)`.
    regions
        The regions: Shapefile (also zipped), GeoJSON, GeoPackage, …; or LON,LAT of a point.
    against
        Hold all others against this source (default: every pair).
    spread
        How far all sources lie apart in each period, and which one stands apart.
    as_
        Value, or anomaly: each source minus its own mean of that period of the year (default:
        value).
    layer
        Layer of the region file, or sheet of a workbook, where it has several.
    label
        Field that names the regions (found where only one can be meant), or two, as F1,F2; of a
        zone raster a CSV with the names of its codes.
    only
        Only this region, or those that match a pattern with * and ?.
    except_
        All but this region, or those that match a pattern with * and ?.
    merge_by
        Join the regions that have this field in common.
    encoding
        Encoding of regions and tables that are text and neither UTF-8, UTF-16 nor Latin-1, as
        cp1251.
    strict
        Refuse shapes that would be repaired.
    make
        A grid made of named ones, as "tmean = (tmax + tmin) / 2".
    make_on
        Work formulas out at each step of each cell, on each cell's value of the period, or on
        the regions' values: step cell region (default: step).
    variable
        Variable, where a file or table has several; a mapping of grids to it.
    columns
        Columns of a table of others: region, date (or year, month, day), variable, value, unit
        (default: found by their names).
    level
        Value of a further dimension, where it has several: 850, or level=850, member=3,
        lead=24; all for each of its values, as member=all (in series, normals, anomalies).
    input_unit
        Unit of the file, where it is silent or wrong; a mapping of grids to it.
    kind
        What the values are, where the file leaves it open or says it wrongly: amount, rate,
        state, accumulated (since a beginning), count or class; a mapping of grids to it.
    missing
        Value that means no data and that the file does not declare, or none; a mapping of grids
        to it (default: marks such as -9999 are found where they cannot be values).
    scale
        Multiply values by this, and then add the second (after the file's own packing)
        (default: 1).
    dates
        Where the date stands in file names, as rain_%Y%m%d or rain_%Y-%m.{dekad}; also
        {dekad36} {pentad} {pentad72} {pentad73} {composite8} {composite16}; or how tables of
        others write dates, as %d/%m/%Y (default: found).
    prefer
        Which file counts where two differ on a step.
    input_crs
        Reference system of a raster that names none, as EPSG:32744; regions=CRS of the regions,
        where their file names none or a wrong one.
    stamp
        What time stamps mark, where the file leaves it open (default: the day, month, … that
        holds the stamp).
    day_start
        Hour at which the days of daily steps begin (default: 0).
    utc_offset
        Add to all times, as +05:30 (default: 00:00).
    during
        Report periods in this range, both ends included, as 2013..2015-06 (default: all).
    every
        Step day pentad dekad month season year all, month initials (JFM, NDJFM), or MM-DD..MM-
        DD in each year; several stand in one table (default: month; indices year, grids step).
    year_start
        Month in which years begin, which then are called 2012/13 (default: 1).
    combine
        How steps become a period: total mean min max; running, for each step from the period's
        beginning; "degree-days above 10 degC" (default: total for amounts and rates, mean for
        states).
    min_steps
        A period with a smaller share of its steps has no value; wmo: monthly means lack at most
        10 days and no 5 in a row, totals none (default: 1.0; indices have a rule of their own).
    base
        Years that normals, percentiles and means are taken from (default: 1991..2020 where 80 %
        of it is there; of charts all).
    measure
        How cells become one number: mean min max range std cv sum count volume majority shares
        median bilinear pNN (default: mean).
    order
        Measure each step and then combine, or combine each cell and then measure (default:
        region for mean and sum, cell for the rest).
    weight
        A further weight for each cell, such as people; where its unit does not tell, `kind`
        weight=count (per cell) or weight=state (a density).
    min_area
        A step with a smaller share of the region's area has no value (default: 0.5; sum and
        volume need all cells that ever have data).
    unit
        Unit of the output, as mm, inch, degC (default: the file's).
    jobs
        Workers (default: the usable processors, three more with URLs).
    memory
        Most memory to use, libraries included (default: 1GB).
    cluster
        Compute on the Dask cluster with this scheduler, as tcp://host:8786; `local` starts one
        here.
    progress
        Called with how much is done and how much there is in all.

    Raises
    ------
    BavloError
    """
    return calls.table_call("compare", locals())


def grid(
    *grids: GridLike | Mapping[str, GridLike],
    regions: RegionsLike | None = None,
    method: Literal["sen", "hamed-rao", "prewhiten", "ols"] = "sen",
    confidence: float = 0.95,
    layer: str | None = None,
    label: str | None = None,
    only: str | Sequence[str] | None = None,
    except_: str | Sequence[str] | None = None,
    merge_by: str | None = None,
    strict: bool = False,
    outside: Literal["missing", "crop", "both"] | None = None,
    min_share: float | None = None,
    make: str | Sequence[str] | None = None,
    make_on: Literal["step", "cell", "region"] = "step",
    variable: OfEach[str] | None = None,
    level: float | str | Sequence[str] | None = None,
    input_unit: OfEach[str] | None = None,
    kind: OfEach[Literal["amount", "rate", "state", "accumulated", "count", "class"]] | None = None,
    missing: OfEach[float | str | Sequence[float]] | None = None,
    scale: OfEach[float | tuple[float, float]] = 1,
    dates: OfEach[str] | None = None,
    prefer: Literal["first", "last"] | None = None,
    input_crs: OfEach[str] | None = None,
    stamp: OfEach[Literal["start", "middle", "end"]] | None = None,
    day_start: OfEach[int] | None = None,
    utc_offset: OfEach[str] = "00:00",
    during: str | None = None,
    every: str | Sequence[str] | None = None,
    year_start: int = 1,
    combine: OfEach[str] | None = None,
    min_steps: float | Literal["wmo"] | None = None,
    base: str | tuple[int, int] | None = None,
    smooth: int = 1,
    normals_from: Literal["periods", "whole-years", "months"] = "periods",
    as_: Literal["value", "normal", "anomaly", "percent", "score", "trend"] = "value",
    onto: PathLike | None = None,
    crs: str | None = None,
    cell: float | None = None,
    box: tuple[float, float, float, float] | None = None,
    resample: Literal["area", "nearest", "majority", "linear", "cubic"] | None = None,
    min_area: float | None = None,
    unit: OfEach[str] | None = None,
    jobs: int | None = None,
    memory: str | int = "1GB",
    cluster: str | None = None,
    progress: Progress | None = None,
    **unknown: Never,
) -> Grid:
    """A grid: joined, cut, regridded, combined over periods, as anomaly or trend.

    Parameters
    ----------
    grids
        Paths, patterns, `bavlo.Array` or labelled arrays; several grids as a mapping of names to
        these: `series({"rain": "rain_*.nc", "tmax": "tmax_*.nc"}, …)`.
    regions
        The regions: Shapefile (also zipped), GeoJSON, GeoPackage, …; or LON,LAT of a point.
    method
        Sen (Theil-Sen with Mann-Kendall), the same allowing for autocorrelation by hamed-rao or
        prewhiten, or ols (least squares with an error for AR(1)) (default: sen).
    confidence
        Of the interval; trends with p_adjusted below 1 minus this are significant (default:
        0.95).
    layer
        Layer of the region file, or sheet of a workbook, where it has several.
    label
        Field that names the regions (found where only one can be meant), or two, as F1,F2; of a
        zone raster a CSV with the names of its codes.
    only
        Only this region, or those that match a pattern with * and ?.
    except_
        All but this region, or those that match a pattern with * and ?.
    merge_by
        Join the regions that have this field in common.
    strict
        Refuse shapes that would be repaired.
    outside
        Cells outside the regions: missing, crop (to the box around the regions) or both
        (default: both).
    min_share
        Share of a cell that regions must cover for it to stay; 0 keeps all that they touch
        (default: 0.5).
    make
        A grid made of named ones, as "tmean = (tmax + tmin) / 2".
    make_on
        Work formulas out at each step of each cell, on each cell's value of the period, or on
        the regions' values: step cell region (default: step).
    variable
        Variable, where a file or table has several; a mapping of grids to it.
    level
        Value of a further dimension, where it has several: 850, or level=850, member=3,
        lead=24; all for each of its values, as member=all (in series, normals, anomalies).
    input_unit
        Unit of the file, where it is silent or wrong; a mapping of grids to it.
    kind
        What the values are, where the file leaves it open or says it wrongly: amount, rate,
        state, accumulated (since a beginning), count or class; a mapping of grids to it.
    missing
        Value that means no data and that the file does not declare, or none; a mapping of grids
        to it (default: marks such as -9999 are found where they cannot be values).
    scale
        Multiply values by this, and then add the second (after the file's own packing)
        (default: 1).
    dates
        Where the date stands in file names, as rain_%Y%m%d or rain_%Y-%m.{dekad}; also
        {dekad36} {pentad} {pentad72} {pentad73} {composite8} {composite16}; or how tables of
        others write dates, as %d/%m/%Y (default: found).
    prefer
        Which file counts where two differ on a step.
    input_crs
        Reference system of a raster that names none, as EPSG:32744; regions=CRS of the regions,
        where their file names none or a wrong one.
    stamp
        What time stamps mark, where the file leaves it open (default: the day, month, … that
        holds the stamp).
    day_start
        Hour at which the days of daily steps begin (default: 0).
    utc_offset
        Add to all times, as +05:30 (default: 00:00).
    during
        Report periods in this range, both ends included, as 2013..2015-06 (default: all).
    every
        Step day pentad dekad month season year all, month initials (JFM, NDJFM), or MM-DD..MM-
        DD in each year; several stand in one table (default: month; indices year, grids step).
    year_start
        Month in which years begin, which then are called 2012/13 (default: 1).
    combine
        How steps become a period: total mean min max; running, for each step from the period's
        beginning; "degree-days above 10 degC" (default: total for amounts and rates, mean for
        states).
    min_steps
        A period with a smaller share of its steps has no value; wmo: monthly means lack at most
        10 days and no 5 in a row, totals none (default: 1.0; indices have a rule of their own).
    base
        Years that normals, percentiles and means are taken from (default: 1991..2020 where 80 %
        of it is there; of charts all).
    smooth
        Running mean over daily normals, centred and circular (default: none).
    normals_from
        Periods: each that is complete; whole-years: only of years all of whose periods are;
        months (in normals): those of seasons and years from the normals of their months, as WMO
        makes them (default: periods).
    as_
        Value normal anomaly percent score trend (default: value).
    onto
        Bring it onto the cells of this grid.
    crs
        Bring it onto square cells in this reference system, as EPSG:32744 (default: the grid's
        own).
    cell
        Size of these cells, in the unit of `crs`.
    box
        Box that they cover, in the unit of `crs`; it grows to whole cells (default: the
        grid's).
    resample
        Area nearest majority linear cubic (default: area for amounts, rates, counts per cell
        and coarser states; linear for finer states; majority for classes).
    min_area
        A step with a smaller share of the region's area has no value (default: 0.5; sum and
        volume need all cells that ever have data).
    unit
        Unit of the output, as mm, inch, degC (default: the file's).
    jobs
        Workers (default: the usable processors, three more with URLs).
    memory
        Most memory to use, libraries included (default: 1GB).
    cluster
        Compute on the Dask cluster with this scheduler, as tcp://host:8786; `local` starts one
        here.
    progress
        Called with how much is done and how much there is in all.

    Raises
    ------
    BavloError
    """
    return calls.grid_call(locals())


def chart(
    *tables: Table | PathLike,
    figure: Literal[
        "lines",
        "bars",
        "normals",
        "diagram",
        "timeline",
        "calendar",
        "longest",
        "levels",
        "years",
        "totals",
        "matrix",
        "sources",
        "scatter",
        "agreement",
        "shares",
        "trend",
        "cells",
        "slopes",
    ]
    | None = None,
    pick: Mapping[str, str] | None = None,
    size: str | None = None,
    panels: Literal["shared", "own"] = "shared",
    title: str | None = None,
    only: str | Sequence[str] | None = None,
    base: str | tuple[int, int] | None = None,
    **unknown: Never,
) -> Figure:
    """A Matplotlib figure of one table or several.

    Parameters
    ----------
    tables
        A `Table`, or files that a command wrote.
    figure
        One of those below.
    pick
        Which measure, condition, window, count, … where a table has several.
    size
        Size of the figure in pixels, as 1600x900 (default: 1280x800; more where panels need
        it).
    panels
        Whether all panels share one scale, or each has its own: shared or own (default:
        shared).
    title
        Heading (default: made from the table).
    only
        Only this region, or those that match a pattern with * and ?.
    base
        Years that normals, percentiles and means are taken from (default: 1991..2020 where 80 %
        of it is there; of charts all).

    Raises
    ------
    BavloError
    """
    return calls.chart_call(locals())


def map(
    shown: GridLike,
    *,
    regions: RegionsLike | None = None,
    column: str | None = None,
    period: str | Sequence[str] | None = None,
    pick: Mapping[str, str] | None = None,
    classes: str = "equal",
    classes_of: Literal["shown", "all"] = "shown",
    beneath: PathLike | None = None,
    mark: Literal["max", "min"] | None = None,
    size: str | None = None,
    title: str | None = None,
    layer: str | None = None,
    label: str | None = None,
    only: str | Sequence[str] | None = None,
    except_: str | Sequence[str] | None = None,
    merge_by: str | None = None,
    encoding: str | None = None,
    strict: bool = False,
    variable: OfEach[str] | None = None,
    level: float | str | Sequence[str] | None = None,
    input_unit: OfEach[str] | None = None,
    kind: OfEach[Literal["amount", "rate", "state", "accumulated", "count", "class"]] | None = None,
    missing: OfEach[float | str | Sequence[float]] | None = None,
    dates: OfEach[str] | None = None,
    input_crs: OfEach[str] | None = None,
    **unknown: Never,
) -> Figure:
    """A Matplotlib map of a table, with its regions, or of a grid.

    Parameters
    ----------
    shown
        A `Table` or a grid, or their files.
    regions
        The regions: Shapefile (also zipped), GeoJSON, GeoPackage, …; or LON,LAT of a point.
    column
        Column to colour by (default: value, of anomalies anomaly).
    period
        Period or step, as its label; several give a map each, `all` all of them (default: the
        last with values).
    pick
        Which measure, condition, window, count, … where a table has several.
    classes
        Equal, quantile or limits such as 0,50,100 (default: equal).
    classes_of
        Values that the classes are made of: those shown, or those of all periods, so that
        several maps compare: shown or all (default: shown).
    beneath
        A grid to draw in grey under the regions.
    mark
        Mark where the highest or lowest value is, with its value.
    size
        Size of the figure in pixels, as 1600x900 (default: 1280x800; more where panels need
        it).
    title
        Heading (default: made from the table).
    layer
        Layer of the region file, or sheet of a workbook, where it has several.
    label
        Field that names the regions (found where only one can be meant), or two, as F1,F2; of a
        zone raster a CSV with the names of its codes.
    only
        Only this region, or those that match a pattern with * and ?.
    except_
        All but this region, or those that match a pattern with * and ?.
    merge_by
        Join the regions that have this field in common.
    encoding
        Encoding of regions and tables that are text and neither UTF-8, UTF-16 nor Latin-1, as
        cp1251.
    strict
        Refuse shapes that would be repaired.
    variable
        Variable, where a file or table has several; a mapping of grids to it.
    level
        Value of a further dimension, where it has several: 850, or level=850, member=3,
        lead=24; all for each of its values, as member=all (in series, normals, anomalies).
    input_unit
        Unit of the file, where it is silent or wrong; a mapping of grids to it.
    kind
        What the values are, where the file leaves it open or says it wrongly: amount, rate,
        state, accumulated (since a beginning), count or class; a mapping of grids to it.
    missing
        Value that means no data and that the file does not declare, or none; a mapping of grids
        to it (default: marks such as -9999 are found where they cannot be values).
    dates
        Where the date stands in file names, as rain_%Y%m%d or rain_%Y-%m.{dekad}; also
        {dekad36} {pentad} {pentad72} {pentad73} {composite8} {composite16}; or how tables of
        others write dates, as %d/%m/%Y (default: found).
    input_crs
        Reference system of a raster that names none, as EPSG:32744; regions=CRS of the regions,
        where their file names none or a wrong one.

    Raises
    ------
    BavloError
    """
    return calls.map_call(locals())


def describe(
    *files: PathLike,
    layer: str | None = None,
    label: str | None = None,
    only: str | Sequence[str] | None = None,
    except_: str | Sequence[str] | None = None,
    merge_by: str | None = None,
    encoding: str | None = None,
    strict: bool = False,
    variable: OfEach[str] | None = None,
    columns: Mapping[str, str] | None = None,
    level: float | str | Sequence[str] | None = None,
    input_unit: OfEach[str] | None = None,
    kind: OfEach[Literal["amount", "rate", "state", "accumulated", "count", "class"]] | None = None,
    missing: OfEach[float | str | Sequence[float]] | None = None,
    scale: OfEach[float | tuple[float, float]] = 1,
    dates: OfEach[str] | None = None,
    prefer: Literal["first", "last"] | None = None,
    input_crs: OfEach[str] | None = None,
    stamp: OfEach[Literal["start", "middle", "end"]] | None = None,
    day_start: OfEach[int] | None = None,
    utc_offset: OfEach[str] = "00:00",
    at: tuple[float, float] | None = None,
    **unknown: Never,
) -> list[dict[str, Any]]:
    """What is in files, and what Bavlo would do with them: a mapping for each.

    Parameters
    ----------
    files
        Paths or patterns of grids, regions and tables.
    layer
        Layer of the region file, or sheet of a workbook, where it has several.
    label
        Field that names the regions (found where only one can be meant), or two, as F1,F2; of a
        zone raster a CSV with the names of its codes.
    only
        Only this region, or those that match a pattern with * and ?.
    except_
        All but this region, or those that match a pattern with * and ?.
    merge_by
        Join the regions that have this field in common.
    encoding
        Encoding of regions and tables that are text and neither UTF-8, UTF-16 nor Latin-1, as
        cp1251.
    strict
        Refuse shapes that would be repaired.
    variable
        Variable, where a file or table has several; a mapping of grids to it.
    columns
        Columns of a table of others: region, date (or year, month, day), variable, value, unit
        (default: found by their names).
    level
        Value of a further dimension, where it has several: 850, or level=850, member=3,
        lead=24; all for each of its values, as member=all (in series, normals, anomalies).
    input_unit
        Unit of the file, where it is silent or wrong; a mapping of grids to it.
    kind
        What the values are, where the file leaves it open or says it wrongly: amount, rate,
        state, accumulated (since a beginning), count or class; a mapping of grids to it.
    missing
        Value that means no data and that the file does not declare, or none; a mapping of grids
        to it (default: marks such as -9999 are found where they cannot be values).
    scale
        Multiply values by this, and then add the second (after the file's own packing)
        (default: 1).
    dates
        Where the date stands in file names, as rain_%Y%m%d or rain_%Y-%m.{dekad}; also
        {dekad36} {pentad} {pentad72} {pentad73} {composite8} {composite16}; or how tables of
        others write dates, as %d/%m/%Y (default: found).
    prefer
        Which file counts where two differ on a step.
    input_crs
        Reference system of a raster that names none, as EPSG:32744; regions=CRS of the regions,
        where their file names none or a wrong one.
    stamp
        What time stamps mark, where the file leaves it open (default: the day, month, … that
        holds the stamp).
    day_start
        Hour at which the days of daily steps begin (default: 0).
    utc_offset
        Add to all times, as +05:30 (default: 00:00).
    at
        Also tell the values of grids at a place.

    Raises
    ------
    BavloError
    """
    return calls.describe_call(locals())


def trace(
    table: Table | PathLike,
    *,
    region: str | None = None,
    period: str | None = None,
    variable: str | None = None,
    measure: str | None = None,
    pick: Mapping[str, str] | None = None,
    jobs: int | None = None,
    memory: str | int = "1GB",
    **unknown: Never,
) -> Trace:
    """How one number of a table came to be: files, rules, steps and cells.

    Parameters
    ----------
    table
        A `Table`, or a file that a command wrote.
    region
        The region of the row.
    period
        Its period, as its label.
    variable
        Its variable, where the table has several.
    measure
        Its measure, where the table has several.
    pick
        What stands in any other column, where several rows are left.
    jobs
        Workers (default: the usable processors, three more with URLs).
    memory
        Most memory to use, libraries included (default: 1GB).

    Raises
    ------
    BavloError
    """
    return calls.trace_call(locals())
