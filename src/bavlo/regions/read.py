"""Regions: named areas from the files that analysts have, repaired and labelled."""

from __future__ import annotations

import fnmatch
import itertools
import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import shapely

from bavlo.core.space.regions import LONLAT, Regions
from bavlo.core.space.zones import NO_ZONE, Zones
from bavlo.errors import InputError, known_words
from bavlo.files import check_regular
from bavlo.grids.cells import whole
from bavlo.grids.formats import format_of
from bavlo.grids.open import open_grid
from bavlo.held import FeatureList, content_of
from bavlo.regions import vector
from bavlo.regions.repair import repaired
from bavlo.regions.vector import Features
from bavlo.sheets import read_sheets

JOINED = ","  # between fields that are joined to one label
MOST_PAIRED = 8  # fields of which pairs are tried
NAMES = re.compile(r"(?i)(name|label|title)")
NUMBERED_BY_FORMAT = {"gml_id", "fid", "ogc_fid", "objectid"}  # of no meaning to people
WHOLE_CODE = re.compile(r"-?\d+")
WHOLE_AS_TEXT = re.compile(r"-?\d+\.0")


@dataclass(frozen=True, eq=False)
class RegionFile:
    """Regions, and what was done to get them.

    Parameters
    ----------
    regions
        Ready for use, in the order of the file: polygons, points, or zones of a grid.
    label
        The field that names them.
    repairs
        What was mended, one line a region.
    notes
        What else a user should know.
    fields
        Attributes of their own, by name, in the same order.
    """

    path: Path
    regions: Regions | Zones
    label: str
    repairs: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()
    fields: Mapping[str, np.ndarray] = field(default_factory=dict)


NO_FILE = Path("points")  # of points that were given by their coordinates


@dataclass(frozen=True)
class RegionOptions:
    """What a user says about a region file.

    Parameters
    ----------
    layer, label
        Layer and label field, needed where there are several that could be meant; of a zone raster
        a CSV with the names of its codes.
    only, excluded
        Names of regions that are wanted, and of those that are not: exact, else a pattern with *
        and ?.
    merge_by
        Field by which regions are joined.
    region_crs
        Reference system, where the file names none or a wrong one.
    strict
        Refuse what would have to be repaired.
    encoding
        Of text that is not UTF-8, UTF-16 or Latin-1, also in tables of others.
    """

    layer: str | None = None
    label: str | None = None
    only: tuple[str, ...] = ()
    excluded: tuple[str, ...] = ()
    merge_by: str | None = None
    region_crs: str | None = None
    strict: bool = False
    encoding: str | None = None


def is_region_file(path: Path) -> bool:
    """Whether a file looks like regions, by the names that vector files have."""
    return path.suffix.lower() in vector.ENDINGS


def read_regions(path: Path, options: RegionOptions = RegionOptions()) -> RegionFile:
    """Read, label, choose and repair regions."""
    held = content_of(path)
    if held is None:
        check_regular(path)
        if not path.exists():
            raise InputError(path, "there is no such file", "check the path")
    if (
        not isinstance(held, FeatureList)
        and not is_region_file(path)
        and format_of(path) is not None
    ):
        return read_zones(path, options)
    features = vector.read(path, options.layer, options.encoding)
    if not features.geometry.size:
        raise InputError(path, "holds no regions", "give a file with polygons in it")
    crs = _system(path, features, options.region_crs)
    label = options.merge_by or choose_label(path, features, options.label)
    if options.merge_by is not None and options.merge_by not in features.fields:
        raise InputError(
            path,
            f"has no field '{options.merge_by}'",
            known_words(options.merge_by, features.fields),
        )
    labels = _labels(path, features, label, may_repeat=options.merge_by is not None)
    keep = chosen(path, labels, options.only, options.excluded)
    labels = [labels[i] for i in keep.tolist()]
    geometry, repairs = repaired(
        path, labels, features.geometry[keep], lonlat=_is_lonlat(path, crs)
    )
    if repairs and options.strict:
        raise InputError(
            path,
            f"{len(repairs)} of its regions would be repaired: {repairs[0]}",
            "mend the file, or leave out ‹strict›",
        )
    fields = {name: column[keep] for name, column in features.fields.items()}
    if options.merge_by is not None:
        groups: dict[str, list[int]] = {}
        for n, label in enumerate(labels):
            groups.setdefault(label, []).append(n)
        labels = list(groups)
        fields = {}
        geometry = np.array([shapely.union_all(geometry[n]) for n in groups.values()], object)
    notes = tuple(f"{path.name}: {note}" for note in features.notes)
    return RegionFile(path, Regions(tuple(labels), geometry, crs), label, repairs, notes, fields)


def points_as_regions(places: Sequence[tuple[float, float]]) -> RegionFile:
    """Points that were given by their longitudes and latitudes, named by them."""
    labels = tuple(f"{lon:g},{lat:g}" for lon, lat in places)
    geometry = np.asarray(shapely.points(np.array(places)), object)
    return RegionFile(NO_FILE, Regions(labels, geometry, LONLAT), "place", (), (), {})


def _system(path: Path, features: Features, given: str | None) -> str:
    """The reference system, checked to be one."""
    crs = given or features.crs
    if not crs:
        raise InputError(
            path, "names no reference system", "give it with ‹input_crs regions=EPSG:4326›"
        )
    if crs not in (LONLAT, "EPSG:4326"):
        import pyproj

        try:
            system = pyproj.CRS.from_user_input(crs)
            pyproj.Transformer.from_crs(system, LONLAT, always_xy=True)
        except pyproj.exceptions.CRSError as error:
            raise InputError(
                path,
                f"the reference system '{crs[:60]}' cannot be read",
                "give it with ‹input_crs regions=EPSG:4326›",
            ) from error
        except pyproj.exceptions.ProjError as error:
            raise InputError(
                path,
                f"has the reference system {system.name}, from which nothing leads to places on "
                "Earth",
                "give the right one with ‹input_crs regions=EPSG:4326›",
            ) from error
    return crs


def _is_lonlat(path: Path, crs: str) -> bool:
    if crs in (LONLAT, "EPSG:4326"):
        return True
    import pyproj

    return bool(pyproj.CRS.from_user_input(crs).is_geographic)


def text_of(values: np.ndarray) -> list[str]:
    """Field values as text; empty where there is none."""
    out = []
    for value in values.tolist():
        if value is None or value != value:
            out.append("")
        elif isinstance(value, float) and value.is_integer():
            out.append(str(int(value)))
        else:
            out.append(str(value).strip())
    if any(out) and all(WHOLE_AS_TEXT.fullmatch(text) for text in out if text):
        out = [text.removesuffix(".0") for text in out]
    return out


def texts_of_label(features: Features, label: str) -> list[str]:
    """The names that a field gives, or several joined as `A / B`."""
    if label in features.fields:
        return text_of(features.fields[label])
    columns = [text_of(features.fields[name]) for name in label.split(JOINED)]
    return [" / ".join(parts) for parts in zip(*columns, strict=True)]


def label_candidates(features: Features) -> list[str]:
    """Fields that could name the regions: text in which every value is there and differs.

    Whole numbers are thought of only where no such text is found.
    """

    def all_differ(name: str) -> bool:
        values = text_of(features.fields[name])
        return all(values) and len(set(values)) == len(values)

    own = {n: v for n, v in features.fields.items() if n.casefold() not in NUMBERED_BY_FORMAT}
    text = [n for n, v in own.items() if v.dtype.kind in "OUST" and all_differ(n)]
    whole = [n for n, v in own.items() if v.dtype.kind in "iu" and all_differ(n)]
    return sorted(text, key=lambda name: _usefulness(features, name)) or whole


def _usefulness(features: Features, name: str) -> int:
    """Fields called names come first, then other words, then codes."""
    if NAMES.search(name):
        return 0
    texts = text_of(features.fields[name])
    return 1 if sum(any(c.isdigit() for c in text) for text in texts) < len(texts) / 2 else 2


def pairs_of_labels(features: Features) -> list[str]:
    """Pairs of text fields that together name every region differently, as `A,B`."""
    texts = {n: text_of(v) for n, v in features.fields.items() if v.dtype.kind in "OUST"}
    whole = {name: column for name, column in texts.items() if all(column)}
    names = sorted(whole, key=lambda name: (-len(set(whole[name])), _usefulness(features, name)))
    return [
        JOINED.join(pair)
        for pair in itertools.combinations(names[:MOST_PAIRED], 2)
        if len(set(zip(whole[pair[0]], whole[pair[1]], strict=True))) == features.geometry.size
    ]


def choose_label(path: Path, features: Features, wanted: str | None) -> str:
    """The label field: the wanted one, or the only one that could be meant; empty for none."""
    fields = list(features.fields)
    if wanted is not None:
        missing = [n for n in wanted.split(JOINED) if n not in fields]
        if wanted not in fields and missing:
            raise InputError(path, f"has no field '{missing[0]}'", known_words(missing[0], fields))
        return wanted
    candidates = label_candidates(features)
    if len(candidates) == 1:
        return candidates[0]
    if len(candidates) > 1:
        examples = ", ".join(f"{n} ({text_of(features.fields[n])[0]}, …)" for n in candidates)
        raise InputError(
            path, f"several fields could name the regions: {examples}", "choose one with ‹label›"
        )
    if not fields:
        return ""
    repeated = [n for n, v in features.fields.items() if v.dtype.kind in "OUST"]
    if len(repeated) == 1:
        return repeated[0]
    pairs = pairs_of_labels(features)
    raise InputError(
        path,
        f"no field names every region and each differently (fields: {', '.join(fields)})",
        f"join two, as ‹label {pairs[0]}›" if pairs else "choose one with ‹label›",
    )


def _labels(path: Path, features: Features, field: str, *, may_repeat: bool) -> list[str]:
    if not field:
        return [str(n + 1) for n in range(features.geometry.size)]
    labels = texts_of_label(features, field)
    empty = sum(not name for name in labels)
    if empty:
        raise InputError(
            path, f"{empty} of {len(labels)} regions have no {field}", "choose another ‹label›"
        )
    twice = [name for name, count in Counter(labels).items() if count > 1]
    if twice and not may_repeat:
        named = ", ".join(f"'{name}' ({labels.count(name)} times)" for name in twice[:3])
        more = f" and {len(twice) - 3} more" if len(twice) > 3 else ""
        raise InputError(
            path,
            f"the label {field} names several regions alike: {named}{more}",
            f"choose another field with ‹label›{_pair_hint(features, field)}, or join them with "
            "‹merge_by›",
        )
    return labels


def _pair_hint(features: Features, field: str) -> str:
    """Two fields that would do instead of one."""
    pairs = [pair for pair in pairs_of_labels(features) if field in pair.split(JOINED)]
    return f", as ‹label {pairs[0]}›" if pairs else ""


def chosen(
    path: Path, labels: Sequence[str], only: Sequence[str], excluded: Sequence[str] = ()
) -> np.ndarray:
    """Positions of the wanted regions: those of that name, else those that match the pattern."""
    keep = _named(path, labels, only) if only else set(range(len(labels)))
    keep -= _named(path, labels, excluded)
    if not keep:
        raise InputError(path, "no region is left", "choose fewer with ‹except›")
    return np.array(sorted(keep))


def _named(path: Path, labels: Sequence[str], names: Sequence[str]) -> set[int]:
    """Positions of the regions of some names, or that match patterns."""
    keep: set[int] = set()
    for name in names:
        found = [i for i, label in enumerate(labels) if label == name]
        found = found or [i for i, label in enumerate(labels) if fnmatch.fnmatchcase(label, name)]
        if not found:  # written otherwise, where that leaves no doubt
            folded = [i for i, label in enumerate(labels) if label.casefold() == name.casefold()]
            found = folded if len(folded) == 1 else []
        if not found:
            hint = known_words(name, labels, "there are")
            raise InputError(path, f"no region is called '{name}'", hint)
        keep.update(found)
    return keep


def read_zones(path: Path, options: RegionOptions) -> RegionFile:
    """Regions from a raster of integer codes.

    A CSV that is the `label` has a column of codes and one of names; without it, codes are the
    names.
    """
    names = None if options.label is None else Path(options.label).expanduser()
    source = open_grid([path])
    cells = whole(source.layout.shape)
    values = source.read(0, 1, cells)[0].reshape(source.layout.shape)
    if source.time is not None and len(source.time) > 1:
        raise InputError(path, "has several steps", "give one raster of codes")
    valid = np.isfinite(values)
    if not valid.any() or (values[valid] != np.rint(values[valid])).any():
        raise InputError(path, "holds other numbers than whole codes", "give a raster of codes")
    codes, index = np.unique(values[valid].astype(np.int64), return_inverse=True)
    zone = np.full(values.shape, NO_ZONE, np.int64)
    zone[valid] = index
    labels = [str(code) for code in codes.tolist()]
    notes = []
    if names is not None:
        known = _names_of_codes(names)
        unnamed = [label for label in labels if label not in known]
        labels = [known.get(label, label) for label in labels]
        if unnamed:
            notes.append(f"{names.name} names no code {', '.join(unnamed[:5])}; kept as it is")
        if len(set(labels)) < len(labels):
            raise InputError(names, "gives one name to several codes", "make the names differ")
    zones = Zones(tuple(labels), zone, source.layout)
    zones = zones.take(chosen(path, labels, options.only, options.excluded))
    return RegionFile(path, zones, "code", (), tuple(notes))


def _names_of_codes(path: Path) -> dict[str, str]:
    """Names by code: the first column of whole numbers, and the first of other text."""
    if not path.exists():
        raise InputError(path, "there is no such file", "check the path")
    for sheet in read_sheets(path):
        head, *rows = [row + [""] * (2 - len(row)) for row in sheet.rows]
        columns = [[row[n] if n < len(row) else "" for row in rows] for n in range(len(head))]
        code = next((c for c in columns if all(WHOLE_CODE.fullmatch(text) for text in c)), None)
        label = next((c for c in columns if c is not code), None)
        if rows and code is not None and label is not None:
            return {str(int(text)): name for text, name in zip(code, label, strict=True)}
    raise InputError(path, "has no column of codes and one of names", "give code,name")
