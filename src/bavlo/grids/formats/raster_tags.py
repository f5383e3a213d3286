"""What a raster file tells of itself: its variable, class names, cells, packing and steps."""

from __future__ import annotations

import calendar
import contextlib
import re
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import numpy as np

from bavlo.core.space.layout import GridLayout
from bavlo.core.time.axis import DAY, to_dates, to_instant
from bavlo.core.values.kinds import CLASS, Variable
from bavlo.core.values.units import stated_unit
from bavlo.errors import InputError
from bavlo.grids import urls as addresses
from bavlo.grids.dates import CALENDAR, NamedStep, find_dates, plain_name
from bavlo.grids.formats.packing import Packing
from bavlo.grids.source import RawTimes, ReadOptions

# A month by its name, or by its number where a word says so.
MONTH_OF_BAND = re.compile(
    r"(?:.*[^a-z])?(?:((?:jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)[a-z]*)"
    r"|(?:month|mon|m)[-_ ]?(0?[1-9]|1[0-2]))",
    re.IGNORECASE,
)
# What fields of an attribute table are used for, as GDAL numbers it.
NAME_USAGE, CODE_USAGES = "2", ("5", "3")


def variable_of(path: Path, data: Any) -> Variable:
    """Name, unit, kind and class names of a raster: from its tags, else from its file's name."""
    tags = {**data.tags(), **data.tags(1)}
    name = tags.get("variable") or tags.get("NETCDF_VARNAME") or ""
    if not name:
        stem = plain_name(path)
        name = "".join(c if c.isalpha() else " " for c in stem).split()[:1] or ["band"]
        name = name[0]
    unit = next((u for u in data.units if u), None) or tags.get("units") or ""
    names, colours = _categories(path) or _flags(tags), _colours(data)
    evidence = "category names" if names else "colour table" if colours else ""
    return Variable(
        str(name),
        stated_unit(str(unit)),
        str(tags.get("standard_name", "")),
        str(tags.get("long_name", "")),
        str(tags.get("cell_methods", "")),
        names,
        difference="difference" in str(tags.get("units_metadata", "")),
        kind=CLASS if evidence else "",
        kind_evidence=evidence,
        colours=colours,
    )


def _flags(tags: dict[str, Any]) -> tuple[tuple[int, str], ...]:
    """Names of class codes in the tags that Bavlo writes, as CF has them."""
    values, names = (str(tags.get(f"flag_{n}", "")).split() for n in ("values", "meanings"))
    if not values or len(values) != len(names):
        return ()
    with contextlib.suppress(ValueError):
        codes = [int(value) for value in values]
        return tuple(
            (code, name.replace("_", " ")) for code, name in zip(codes, names, strict=True)
        )
    return ()


def _colours(data: Any) -> tuple[tuple[int, str], ...]:
    """The colour table of the first band, as `#rrggbb`; empty where it has none."""
    if np.dtype(data.dtypes[0]).kind not in "iu":
        return ()
    try:
        table = data.colormap(1)
    except ValueError:
        return ()
    return tuple((int(n), f"#{r:02x}{g:02x}{b:02x}") for n, (r, g, b, _) in sorted(table.items()))


def _categories(path: Path) -> tuple[tuple[int, str], ...]:
    """Names of class codes in the file that the raster library keeps beside a raster, if any."""
    beside = path.with_name(f"{path.name}.aux.xml")
    if addresses.url_of(path) is not None or not beside.is_file():
        return ()
    try:
        band = ElementTree.parse(beside).find("PAMRasterBand")
    except ElementTree.ParseError as error:
        raise InputError(beside, f"is no XML ({error})", "repair it, or take it away") from error
    if band is None:
        return ()
    listed = [category.text or "" for category in band.iterfind("CategoryNames/Category")]
    if any(listed):
        return tuple((n, text) for n, text in enumerate(listed) if text)
    table = band.find("GDALRasterAttributeTable")
    return () if table is None else _attribute_table(table)


def _attribute_table(table: ElementTree.Element) -> tuple[tuple[int, str], ...]:
    """Codes and names of a raster attribute table."""
    usages = [field.findtext("Usage", "") for field in table.iterfind("FieldDefn")]
    if NAME_USAGE not in usages or not set(usages) & set(CODE_USAGES):
        return ()
    code = next(n for n, usage in enumerate(usages) if usage in CODE_USAGES)
    name, found = usages.index(NAME_USAGE), []
    for row in table.iterfind("Row"):
        texts = [cell.text or "" for cell in row.iterfind("F")]
        with contextlib.suppress(ValueError, IndexError):
            found.append((int(float(texts[code])), texts[name]))
    return tuple(found)


def packing_of(data: Any) -> Packing:
    """Scale, offset and missing value, which all bands must share.

    Raises
    ------
    ValueError
        Where they do not.
    """
    # NaN is missing by itself, and no two of them are equal.
    own = [n - 1 for n in bands_of(data)]
    nodata = [float(v) for v in (data.nodatavals[n] for n in own) if v is not None and v == v]
    scales, offsets = ({each[n] for n in own} for each in (data.scales, data.offsets))
    scale, offset = float(data.scales[0]), float(data.offsets[0])
    if len(scales) > 1 or len(offsets) > 1 or len(set(nodata)) > 1:
        raise ValueError("its bands have different scales or missing values")
    return Packing(
        None if scale == 1 else scale,
        None if offset == 0 else offset,
        tuple(dict.fromkeys(nodata)),
    )


def bands_of(data: Any) -> list[int]:
    """The bands that hold values, from 1 on: all but those that tell how opaque cells are."""
    from rasterio.enums import ColorInterp

    try:
        colours = data.colorinterp
    except Exception:
        # What the library complained of was an odd tag, once; it says so at the next question.
        colours = data.colorinterp
    return [n + 1 for n, what in enumerate(colours) if what != ColorInterp.alpha]


def is_masked(data: Any) -> bool:
    """Whether a mask or an alpha band tells which cells have data."""
    from rasterio.enums import MaskFlags

    masked = any(MaskFlags.per_dataset in flags for flags in data.mask_flag_enums)
    return masked or len(bands_of(data)) < data.count


def with_data(data: Any, bands: list[int], window: Any) -> np.ndarray:
    """(T, ny, nx) bool where the mask or the alpha band of a raster says that there is data."""
    alpha = sorted(set(range(1, data.count + 1)) - set(bands_of(data)))
    if alpha:  # of numbers that are no bytes the raster library makes no mask of it
        return np.broadcast_to(data.read(alpha[0], window=window) > 0, (len(bands), *_size(window)))
    return np.asarray(data.read_masks(bands, window=window) > 0)


def _size(window: Any) -> tuple[int, int]:
    return int(window.height), int(window.width)


def is_masked_beside(path: Path) -> bool:
    """Whether the mask of a raster lies in a file beside it."""
    return addresses.url_of(path) is None and path.with_name(f"{path.name}.msk").exists()


def mask_notes(path: Path, data: Any) -> list[str]:
    """What to say of a mask or an alpha band."""
    if not is_masked(data):
        return []
    alpha = len(bands_of(data)) < data.count
    source = "an alpha band" if alpha else "the mask of the file"
    return [f"{path.name}: {source} tells which cells have data"]


def layout_of(path: Path, data: Any, input_crs: str | None) -> GridLayout:
    """The cells of a raster.

    Parameters
    ----------
    input_crs
        Its reference system where it states none; else the same as it states.

    Raises
    ------
    InputError
        Where it is turned, or nothing tells its system.
    """
    transform = data.transform
    if transform.b or transform.d:
        raise InputError(path, "is turned against its axes", "warp it to a grid with straight axes")
    x = transform.c + transform.a * np.arange(data.width + 1)
    y = transform.f + transform.e * np.arange(data.height + 1)
    x, y = _decimal(x), _decimal(y)
    if data.crs is not None and input_crs is not None:
        _check_same_system(path, data, input_crs)
    if data.crs is not None:
        _check_on_earth(path, data.crs.to_wkt())
        if data.crs.is_geographic and not data.crs.is_projected:
            return GridLayout(x, np.clip(y, -90, 90), "lonlat")
        return GridLayout(x, y, data.crs.to_wkt())
    if input_crs is not None:
        import pyproj

        crs = pyproj.CRS.from_user_input(input_crs)
        return GridLayout(x, y, "lonlat" if crs.is_geographic else crs.to_wkt())
    if np.abs(y).max() <= 90.0 + 1e-6 and x.min() >= -360 and x.max() <= 540:
        return GridLayout(x, np.clip(y, -90, 90), "lonlat")
    raise InputError(path, "names no reference system", "give it with ‹input_crs›, as EPSG:32744")


def _check_on_earth(path: Path, crs: str) -> None:
    """Refuse a reference system from which nothing leads to longitudes and latitudes on Earth."""
    import pyproj

    try:
        pyproj.Transformer.from_crs(crs, "OGC:CRS84", always_xy=True)
    except pyproj.exceptions.ProjError as error:
        name = crs.partition('"')[2].partition('"')[0]
        raise InputError(
            path,
            f"has the reference system {name}, from which nothing leads to places on Earth",
            "correct the file",
        ) from error


def _check_same_system(path: Path, data: Any, input_crs: str) -> None:
    """A reference system may be said of a file that states none, or the same."""
    import pyproj

    stated = pyproj.CRS.from_user_input(data.crs.to_wkt())
    if not stated.equals(pyproj.CRS.from_user_input(input_crs), ignore_axis_order=True):
        raise InputError(
            path,
            f"states the reference system {stated.name}, and ‹input_crs› says {input_crs}",
            "leave ‹input_crs› out, or correct the file",
        )


def _decimal(edges: np.ndarray) -> np.ndarray:
    """Edges without the rounding noise of origin plus n times size."""
    return np.round(edges, 10)


def crs_notes(path: Path, data: Any, input_crs: str | None) -> list[str]:
    """What to say of a raster that states no reference system."""
    if data.crs is None and input_crs is None:
        return [f"{path.name} names no reference system; taken as longitude and latitude"]
    return []


def times_of(
    path: Path, data: Any, bands: list[int], options: ReadOptions
) -> tuple[RawTimes | None, list[str]]:
    """Steps from band descriptions or tags; names are looked at for all files."""
    tags = [data.tags(n) for n in bands]
    if all({"start", "end"} <= t.keys() for t in tags):
        return _tagged_times(path, data.tags(), tags), ["dates from the tags of bands"]
    described = [data.descriptions[n - 1] or "" for n in bands]
    for key in ("time", "date", "datetime", "DATE", "TIME", "TIFFTAG_DATETIME"):
        if not all(described) and all(key in t for t in tags) and (len(bands) > 1 or key != "TIME"):
            described = [t[key] for t in tags]
    if all(described):
        steps = find_dates(described, options.dates, path)
        if steps is not None:
            return raw_times(steps), ["dates from the descriptions of bands"]
        months = [MONTH_OF_BAND.fullmatch(text.strip()) for text in described]
        if len(bands) > 1 and all(months):
            return _months_of_year(
                path, [(m.group(1) or m.group(2)).lower() for m in months if m], options
            )
    if len(bands) > 1:
        raise InputError(
            path,
            f"has {len(bands)} bands that name no dates",
            "write the dates into the descriptions of the bands",
        )
    return None, []


def _months_of_year(
    path: Path, names: list[str], options: ReadOptions
) -> tuple[RawTimes, list[str]]:
    """Steps of bands that are called by months, in the year that the name of the file tells."""
    years = find_dates([plain_name(path)], options.dates, path)
    if years is None:
        raise InputError(
            path,
            f"has {len(names)} bands that are months, and no year in its name",
            "put the year into the name, or say where it stands with ‹dates›, as ‹dates rain_%y›",
        )
    year = int(to_dates(np.array([years[0].stamp]), CALENDAR)[0].year)
    known = [name.lower() for name in calendar.month_abbr]
    months = [int(name) if name.isdigit() else known.index(name[:3]) for name in names]
    starts = [to_instant(CALENDAR, year, month) for month in months]
    ends = [to_instant(CALENDAR, year + month // 12, month % 12 + 1) for month in months]
    steps = [NamedStep(start, end) for start, end in zip(starts, ends, strict=True)]
    return raw_times(steps), [
        "months from the descriptions of bands, the year from the file's name"
    ]


def _tagged_times(path: Path, whole: dict[str, str], tags: list[dict[str, str]]) -> RawTimes:
    """Steps whose first and last days stand in tags, as Bavlo writes them."""
    of_file = whole.get("calendar", CALENDAR)
    try:
        bounds = [
            [to_instant(of_file, *map(int, t[key].split("-"))) for key in ("start", "end")]
            for t in tags
        ]
    except (ValueError, TypeError):
        raise InputError(
            path, "has bands with tags start and end that are no dates", "repair the tags"
        ) from None
    both = np.array(bounds, np.int64) + [0, DAY]
    if whole.get("climatology") == "yes":
        return RawTimes(both[:, 0], None, of_file, True)
    return RawTimes(both[:, 0], both, of_file)


def raw_times(steps: list[NamedStep], *, from_name: bool = False) -> RawTimes:
    """Steps that names tell, as time stamps with bounds where all names tell those.

    Parameters
    ----------
    from_name
        They are told by the name of the file.
    """
    stamps = np.array([step.stamp for step in steps], np.int64)
    ends = [step.end for step in steps]
    bounds = None
    if all(end is not None for end in ends):
        bounds = np.column_stack([stamps, np.array(ends, np.int64)])
    return RawTimes(stamps, bounds, CALENDAR, from_name=from_name)
