"""Regions: named areas from the files that analysts have, repaired and labelled."""

from __future__ import annotations

import fnmatch
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import shapely

from bavlo.core.errors import InputError
from bavlo.core.regions import LONLAT, Regions
from bavlo.formats.regions import vector
from bavlo.formats.regions.vector import Features


@dataclass(frozen=True, eq=False)
class RegionFile:
    """Regions, and what was done to get them.

    Parameters
    ----------
    regions
        Ready for use, in the order of the file.
    label
        The field that names them.
    repairs
        What was mended, one line a region.
    notes
        What else a user should know.
    """

    path: Path
    regions: Regions
    label: str
    repairs: tuple[str, ...] = ()
    notes: tuple[str, ...] = ()


def is_region_file(path: Path) -> bool:
    """Whether a file looks like regions, by the names that vector files have."""
    return path.suffix.lower() in vector.ENDINGS


def read_regions(
    path: Path,
    *,
    layer: str | None = None,
    label: str | None = None,
    only: Sequence[str] = (),
) -> RegionFile:
    """Read, label, choose and repair regions.

    Parameters
    ----------
    layer, label
        Layer and label field, needed where there are several that could be meant.
    only
        Names of wanted regions: exact, else a pattern with * and ?.
    """
    if not path.exists():
        raise InputError(path, "there is no such file", "check the path")
    features = vector.read(path, layer)
    if not features.geometry.size:
        raise InputError(path, "holds no regions", "give a file with polygons in it")
    field = choose_label(path, features, label)
    labels = _labels(path, features, field)
    keep = _chosen(path, labels, only)
    labels = [labels[i] for i in keep]
    geometry, repairs = repaired(path, labels, features.geometry[keep])
    notes: tuple[str, ...] = ()
    if not features.crs:
        notes = (f"{path.name} names no reference system; taken as longitude and latitude",)
    regions = Regions(tuple(labels), geometry, features.crs or LONLAT)
    return RegionFile(path, regions, field, repairs, notes)


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
    return out


def label_candidates(features: Features) -> list[str]:
    """Fields that could name the regions: text in which every value is there and differs.

    Whole numbers are thought of only where no such text is found.
    """

    def all_differ(name: str) -> bool:
        values = text_of(features.fields[name])
        return all(values) and len(set(values)) == len(values)

    text = [n for n, v in features.fields.items() if v.dtype.kind in "OUST" and all_differ(n)]
    whole = [n for n, v in features.fields.items() if v.dtype.kind in "iu" and all_differ(n)]
    return text or whole


def choose_label(path: Path, features: Features, wanted: str | None) -> str:
    """The label field: the wanted one, or the only one that could be meant; empty for none."""
    fields = list(features.fields)
    if wanted is not None:
        if wanted not in fields:
            raise InputError(path, f"has no field '{wanted}'", f"it has: {', '.join(fields)}")
        return wanted
    candidates = label_candidates(features)
    if len(candidates) == 1:
        return candidates[0]
    if len(candidates) > 1:
        examples = ", ".join(f"{n} ({text_of(features.fields[n])[0]}, …)" for n in candidates)
        raise InputError(
            path, f"several fields could name the regions: {examples}", "choose one with --label"
        )
    if not fields:
        return ""
    repeated = [n for n, v in features.fields.items() if v.dtype.kind in "OUST"]
    if len(repeated) == 1:
        return repeated[0]
    raise InputError(
        path,
        f"no field names every region and each differently (fields: {', '.join(fields)})",
        "choose one with --label",
    )


def _labels(path: Path, features: Features, field: str) -> list[str]:
    if not field:
        return [str(n + 1) for n in range(features.geometry.size)]
    labels = text_of(features.fields[field])
    empty = sum(not name for name in labels)
    if empty:
        raise InputError(
            path, f"{empty} of {len(labels)} regions have no {field}", "choose another --label"
        )
    twice = [name for name, count in Counter(labels).items() if count > 1]
    if twice:
        named = ", ".join(f"'{name}' ({labels.count(name)} times)" for name in twice[:3])
        more = f" and {len(twice) - 3} more" if len(twice) > 3 else ""
        raise InputError(
            path,
            f"the label {field} names several regions alike: {named}{more}",
            "choose another field with --label",
        )
    return labels


def _chosen(path: Path, labels: list[str], only: Sequence[str]) -> np.ndarray:
    if not only:
        return np.arange(len(labels))
    keep: set[int] = set()
    for name in only:
        found = [i for i, label in enumerate(labels) if label == name]
        found = found or [i for i, label in enumerate(labels) if fnmatch.fnmatchcase(label, name)]
        if not found:
            shown = ", ".join(labels[:12]) + (", …" if len(labels) > 12 else "")
            raise InputError(path, f"no region is called '{name}'", f"there are: {shown}")
        keep.update(found)
    return np.array(sorted(keep))


def repaired(
    path: Path, labels: Sequence[str], geometry: np.ndarray
) -> tuple[np.ndarray, tuple[str, ...]]:
    """Valid polygons, and what was mended in words.

    Rings that cross or touch themselves are rebuilt so that the area inside an odd number of outer
    rings, less the holes, is kept. What is not an area (points, lines) is dropped and said.
    """
    out = np.array(geometry, dtype=object)
    missing = shapely.is_missing(out) | shapely.is_empty(out)
    if missing.any():
        name = labels[int(np.flatnonzero(missing)[0])]
        raise InputError(
            path,
            f"{int(missing.sum())} of {len(labels)} regions have no geometry, such as '{name}'",
            "mend the file, or choose the others with --only",
        )
    repairs = []
    valid = shapely.is_valid(out)
    for i in np.flatnonzero(~valid).tolist():
        reason = shapely.is_valid_reason(out[i]).split("[")[0].lower()
        before = shapely.area(out[i])
        out[i] = shapely.make_valid(out[i], method="structure", keep_collapsed=False)
        change = shapely.area(out[i]) / before - 1 if before else 0.0
        by = f"its area by {change:+.2%}" if abs(change) >= 5e-5 else "nothing of its area"
        repairs.append(f"{labels[i]}: {reason} repaired, which changed {by}")
    for i in np.flatnonzero(~np.isin(shapely.get_type_id(out), (3, 6))).tolist():
        parts = shapely.get_parts(shapely.get_parts(out[i]))
        polygons = [p for p in np.ravel(parts) if p.geom_type == "Polygon"]
        if not polygons:
            raise InputError(
                path,
                f"the region '{labels[i]}' is a {out[i].geom_type}, which has no area",
                "give polygons",
            )
        out[i] = shapely.MultiPolygon(polygons)
        repairs.append(f"{labels[i]}: points or lines beside its area left out")
    return out, tuple(repairs)
