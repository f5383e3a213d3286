"""Sources of the same numbers, matched by region, period and measure."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from bavlo.core.values.units import convert, suits
from bavlo.errors import RequestError
from bavlo.jobs.sources import Source
from bavlo.jobs.wording import counted, some_of
from bavlo.tables.group import parts_of
from bavlo.tables.schema import schema_by_axes
from bavlo.tables.table import Table

MEASURED = ("measure", "condition", "count")  # columns that tell what was measured


@dataclass(frozen=True)
class Measured:
    """What was measured: a measure, or a count of a condition."""

    variable: str
    measure: str = ""
    condition: str = ""
    count: str = ""

    @property
    def matches(self) -> tuple[str, str, str]:
        """What another source must have alike; variables may be called differently."""
        return self.measure, self.condition, self.count


@dataclass(frozen=True, eq=False)
class Matched:
    """Values of the same regions, periods and measures from all sources.

    Parameters
    ----------
    names
        Of the S sources.
    regions, periods, starts, ends
        Those that all sources have.
    every
        The sort of the periods, where there are several.
    measured, units, combines
        What was measured, in which unit, and how steps became a period; M of each.
    values
        (R, P, M) float64 of each source.
    left_out
        Periods and regions that not all have, in words.
    """

    names: tuple[str, ...]
    regions: list[str]
    periods: list[str]
    starts: list[str]
    ends: list[str]
    every: str
    measured: list[Measured]
    units: list[str]
    combines: list[str]
    values: list[np.ndarray]
    left_out: tuple[str, ...]

    def columns(self) -> dict[str, Any]:
        """The columns that tell what was measured, for a schema."""
        told = {"variable": [m.variable for m in self.measured]}
        for name in MEASURED:
            texts = [getattr(m, name) for m in self.measured]
            told[name] = texts if any(texts) else None  # type: ignore[assignment]
        return told


def matched(sources: Sequence[Source]) -> list[Matched]:
    """The values that all sources have, one for each sort of periods.

    Raises
    ------
    RequestError
        Where they have no measure, period or region in common, or units that do not convert.
    """
    by_every: dict[str, list[list[Table]]] = {}
    for source in sources:
        sorts: dict[str, list[Table]] = {}
        for part in parts_of(source.table):
            every = str(part.labels("every")[0]) if "every" in part.header else ""
            sorts.setdefault(every, []).append(part)
        for every, parts in sorts.items():
            by_every.setdefault(every, []).append(parts)
    if len(by_every) > 1:
        shared = {every: parts for every, parts in by_every.items() if len(parts) == len(sources)}
        if not shared:
            raise RequestError(
                "every",
                f"the tables have different sorts of periods: {some_of(list(by_every))}",
                "make them with the same ‹every›",
            )
        by_every = shared
    names = tuple(source.name for source in sources)
    return [_matched_parts(names, parts, every) for every, parts in by_every.items()]


def _matched_parts(names: tuple[str, ...], parts: list[list[Table]], every: str) -> Matched:
    """The values that the parts of all sources by one sort of periods have."""
    held = [_by_measured(tables) for tables in parts]
    measured = _common_measures(names, held)
    tables = [table for each in parts for table in each]
    regions = _common([t.labels("region") for t in tables], "region", names, parts)
    periods = _common([t.labels("period") for t in tables], "period", names, parts)
    left_out = [
        _left_out(names, parts, word, shared)
        for word, shared in (("region", regions), ("period", periods))
    ]
    first = parts[0][0]
    where = {label: n for n, label in enumerate(first.labels("period"))}
    chosen_periods = [where[label] for label in periods]
    units = [held[0][key].unit for key in measured]
    shape = (len(regions), len(periods), len(measured))
    values = []
    for name, own in zip(names, held, strict=True):
        array = np.full(shape, np.nan)
        for m, key in enumerate(measured):
            array[:, :, m] = _taken(name, own[key], regions, periods, units[m])
        values.append(array)
    return Matched(
        names,
        regions,
        periods,
        [first.along("start", "period")[n] for n in chosen_periods],
        [first.along("end", "period")[n] for n in chosen_periods],
        every,
        [held[0][key].measured for key in measured],
        units,
        [held[0][key].combine for key in measured],
        values,
        tuple(filter(None, left_out)),
    )


def _left_out(
    names: Sequence[str], parts: Sequence[list[Table]], word: str, shared: Sequence[str]
) -> str:
    """How many regions or periods are left out, and which sources lack them; empty for none."""
    every = list(dict.fromkeys(n for own in parts for t in own for n in t.labels(word)))
    missing = [label for label in every if label not in set(shared)]
    if not missing:
        return ""
    lacking = [
        name
        for name, own in zip(names, parts, strict=True)
        if any(set(missing) - set(table.labels(word)) for table in own)
    ]
    which = f"{missing[0]} to {missing[-1]}" if word == "period" else some_of(missing)
    number = counted(len(missing), word)
    verb = "is" if len(missing) == 1 else "are"
    lack = "lacks" if len(lacking) == 1 else "lack"
    return f"{number} {verb} left out, which {' and '.join(lacking)} {lack}: {which}"


@dataclass(frozen=True, eq=False)
class _Held:
    """The values of one measure of a source: (R, P) with their labels."""

    measured: Measured
    unit: str
    combine: str
    regions: list[str]
    periods: list[str]
    values: np.ndarray


def _by_measured(tables: Sequence[Table]) -> dict[tuple[str, ...], _Held]:
    """What a source measured, by what another must have alike."""
    several = len({str(v) for table in tables for v in table.labels("variable")}) > 1
    out = {}
    for table in tables:
        schema = schema_by_axes(table)
        others = [axis for axis in table.axes if axis not in ("region", "period")]
        full = table.full("value")
        regions, periods = table.labels("region"), table.labels("period")
        for place in np.ndindex(*(table.axes[axis] for axis in others)):
            at = dict(zip(others, place, strict=True))
            told = {
                name: table.text_at(name, at)
                for name in ("variable", *MEASURED)
                if schema.column(name) is not None and name in table.header
            }
            measured = Measured(**told)
            key = (*measured.matches, *((measured.variable,) if several else ()))
            combine = table.text_at("combine", at) if "combine" in table.header else ""
            out[key] = _Held(
                measured, table.text_at("unit", at), combine, regions, periods, full[(..., *place)]
            )
    return out


def _common_measures(
    names: Sequence[str], held: Sequence[dict[tuple[str, ...], _Held]]
) -> list[tuple[str, ...]]:
    common = [key for key in held[0] if all(key in each for each in held[1:])]
    if not common:
        told = "; ".join(
            f"{name} has {some_of([' '.join(filter(None, key)) for key in each])}"
            for name, each in zip(names, held, strict=True)
        )
        raise RequestError("measure", f"the sources have nothing in common: {told}", "make alike")
    return common


def _common(
    labels: Sequence[list[str]], word: str, names: Sequence[str], parts: Sequence[list[Table]]
) -> list[str]:
    """What all have, in the order of the first."""
    shared = set(labels[0]).intersection(*labels[1:])
    if not shared:
        told = "; ".join(
            f"{name} has {some_of(each[0].labels(word), 3)}"
            for name, each in zip(names, parts, strict=True)
        )
        raise RequestError("", f"the sources have no {word} in common: {told}", "make them alike")
    return [label for label in labels[0] if label in shared]


def _taken(name: str, held: _Held, regions: list[str], periods: list[str], unit: str) -> np.ndarray:
    """(R, P) values of the wanted regions and periods, in another unit."""
    at_region = [held.regions.index(label) for label in regions]
    where = {label: n for n, label in enumerate(held.periods)}
    at_period = [where[label] for label in periods]
    values = held.values[np.ix_(at_region, at_period)]
    if held.unit == unit:
        return values
    if not suits(held.unit, unit):
        raise RequestError(
            "unit",
            f"{name} is in {held.unit or 'no unit'}, which does not convert to {unit or 'none'}",
            "give tables of the same quantity",
        )
    return convert(np.array(values), held.unit, unit, difference=False)
