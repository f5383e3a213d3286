"""The schema of every table, once: its columns, the axes that they vary along, types and units.

Names, order and meaning of columns are a promise; whoever makes, reads, draws or maps a table asks
here. To add a column is one row.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from bavlo.tables.table import Column, Table, text_column

TEXT, NUMBER = "text", "number"
OF_VALUES = ""  # the unit of a column that is in the unit of its row


NEUTRAL = "+neutral="  # flag of a column whose values lie about one


@dataclass(frozen=True)
class ColumnSchema:
    """One column.

    Parameters
    ----------
    name
        As in the header.
    axes
        The axes that its values may vary along, in the order of the table's.
    kind
        TEXT or NUMBER.
    unit
        Of a number; OF_VALUES for that of the row's column `unit`.
    optional
        Left out as a whole where it does not apply.
    neutral
        The value that its own lie about: a map colours both sides of it. None where there is none.
    """

    name: str
    axes: tuple[str, ...]
    kind: str
    unit: str = OF_VALUES
    optional: bool = False
    neutral: float | None = None


@dataclass(frozen=True)
class TableSchema:
    """One table.

    Parameters
    ----------
    name
        series, normals, …
    axes
        What its rows run through, the last one fastest.
    columns
        In the order of the header.
    known_by
        A column that tells it from the schemas after it in SCHEMAS.
    axis_columns
        The columns that hold the places of an axis, with spaces between, where they have other
        names; empty for the number of the row.
    shown
        The column that a map shows where nobody names one.
    sparse
        Axes of whose pairs some may have no rows.
    """

    name: str
    axes: tuple[str, ...]
    columns: tuple[ColumnSchema, ...]
    known_by: str
    axis_columns: Mapping[str, str] = field(default_factory=dict)
    shown: str = "value"
    sparse: tuple[str, ...] = ()

    def column(self, name: str) -> ColumnSchema | None:
        """A column by its name; None where the table has none of that name."""
        return next((column for column in self.columns if column.name == name), None)

    def is_text(self, name: str) -> bool:
        """Whether a column holds text."""
        column = self.column(name)
        return column is not None and column.kind == TEXT

    def columns_of(self, axis: str, header: Sequence[str]) -> list[str]:
        """The columns of a table that tell the places of an axis apart; none for its row."""
        named = self.axis_columns.get(axis, axis).split()
        return [name for name in named if name in header]

    def table(self, values: Mapping[str, Any], kept: np.ndarray | None = None) -> Table:
        """A table of these columns, in the order of the schema.

        Parameters
        ----------
        values
            By name of the column: texts or numbers along its axes, or one value for all rows.
            Optional columns that are None or not given are left out.
        kept : bool
            Along the sparse axes, which of their pairs have rows; None for all.
        """
        columns: list[Column] = []
        sizes: dict[str, int] = {}
        for column in self.columns:
            given = values.get(column.name)
            if given is None and column.optional:
                continue
            built = _column(column, given)
            columns.append(built)
            sizes.update(zip(built.axes, np.shape(built.values), strict=True))
        only = None
        if kept is not None and not kept.all():
            only = Column("", self.sparse, kept.astype(float))
        axes = {axis: sizes.get(axis, 1) for axis in self.axes}
        return Table(self.name, axes, tuple(columns), only)


def _column(schema: ColumnSchema, given: Any) -> Column:
    """A column with its values along the axes of its schema."""
    if schema.kind == TEXT and isinstance(given, str):
        return text_column(schema.name, (), [given])
    if schema.kind == TEXT and not isinstance(given, np.ndarray):
        return text_column(schema.name, schema.axes, list(given))
    array = given if schema.kind == TEXT else np.asarray(given, np.float64)
    return Column(schema.name, schema.axes if array.ndim else (), array)


def _columns(axes: Mapping[str, Sequence[str]], rows: str) -> tuple[ColumnSchema, ...]:
    """Columns from lines of `name axes kind [unit] [flags]`; axes by a word of `axes`, or -."""
    out = []
    for row in rows.strip().splitlines():
        name, along, kind, *more = row.split()
        flags = {word for word in more if word.startswith("+")}
        units = [word for word in more if not word.startswith("+")]
        out.append(
            ColumnSchema(
                name,
                tuple(axes[along]) if along != "-" else (),
                kind,
                units[0] if units else OF_VALUES,
                "+optional" in flags,
                next((float(word[len(NEUTRAL) :]) for word in flags if NEUTRAL in word), None),
            )
        )
    return tuple(out)


def _along(*axes: str) -> dict[str, Sequence[str]]:
    """Axes by the first letters of their names: `rp` for region and period."""
    from itertools import combinations

    out: dict[str, Sequence[str]] = {}
    for size in range(1, len(axes) + 1):
        for some in combinations(axes, size):
            out["".join(axis[0] for axis in some)] = some
    return out


EVENTS = TableSchema(
    "events",
    ("row",),
    _columns(
        _along("row"),
        """
        region r text
        condition r text
        event r number
        start r text
        end r text
        steps r number
        variable r text
        peak r number
        peak_on r text
        unit r text
        total r number
        total_unit r text
        area_share r number 1
        open r text
        """,
    ),
    known_by="event",
    axis_columns={"row": ""},
)
TRACE = TableSchema(
    "trace",
    ("row",),
    _columns(
        _along("row"),
        """
        region r text
        period r text
        part r text
        item r text
        start r text +optional
        end r text +optional
        x r number degrees_east +optional
        y r number degrees_north +optional
        area r number km2 +optional
        share r number 1 +optional
        weight r number 1 +optional
        valid r number 1 +optional
        value r number
        unit r text
        note r text
        """,
    ),
    known_by="part",
    axis_columns={"row": ""},
)
RETURN_LEVELS = TableSchema(
    "return levels",
    ("region", "return_period"),
    _columns(
        {"r": ("region",), "y": ("return_period",), "ry": ("region", "return_period")},
        """
        region r text
        variable - text
        years y number years
        value ry number
        lower ry number
        upper ry number
        unit - text
        method - text
        n r number years
        """,
    ),
    known_by="lower",
    axis_columns={"return_period": "years"},
)
# Axes by letters: r region, p period, c condition or class, m measure, n count, s statistic,
# w window.
EXTREMES = TableSchema(
    "extremes",
    ("region", "period", "condition", "count"),
    _columns(
        _along("region", "period", "condition", "n")
        | {
            "n": ("count",),
            "cn": ("condition", "count"),
            "rpcn": ("region", "period", "condition", "count"),
        },
        """
        region r text
        period p text
        start p text
        end p text
        condition c text
        variable c text
        tested_on - text
        count n text
        value rpcn number
        unit cn text
        area_valid rpc number 1
        steps rpc number
        steps_expected p number
        note rpcn text
        calendar - text +optional
        weight - text +optional
        level - text +optional
        every - text +optional
        """,
    ),
    known_by="tested_on",
    sparse=("condition", "count"),
)
NORMALS = TableSchema(
    "normals",
    ("region", "period", "measure", "statistic"),
    _columns(
        _along("region", "period", "measure", "statistic"),
        """
        region r text
        period p text
        base - text
        variable - text
        measure m text +optional
        condition m text +optional
        count m text +optional
        combine - text +optional
        order m text +optional
        statistic s text
        value rpms number
        unit m text
        years rpm number years
        weight - text +optional
        level - text +optional
        every - text +optional
        """,
    ),
    known_by="statistic",
    axis_columns={"measure": "measure condition count"},
)
ANOMALIES = TableSchema(
    "anomalies",
    ("region", "period", "measure", "window"),
    _columns(
        _along("region", "period", "measure", "window"),
        """
        region r text
        period p text
        start pw text
        end p text
        variable - text
        measure m text +optional
        condition m text +optional
        count m text +optional
        window w number
        value rpmw number
        unit m text
        normal rpmw number
        std rpmw number
        anomaly rpmw number +neutral=0
        percent_of_normal rpmw number % +neutral=100
        score rpmw number 1 +neutral=0
        score_kind - text
        rank rpmw number rank
        ranked_of rpmw number rank
        base - text
        years rpmw number years
        area_valid rpmw number 1
        steps rpw number
        steps_expected pw number
        note rpmw text
        calendar - text +optional
        weight - text +optional
        level - text +optional
        every - text +optional
        """,
    ),
    known_by="anomaly",
    axis_columns={"measure": "measure condition count"},
    shown="anomaly",
)
CLASSES = TableSchema(
    "series",
    ("region", "period", "class", "measure"),
    _columns(
        _along("region", "period", "class", "measure"),
        """
        region r text
        period p text
        start p text
        end p text
        variable - text
        measure m text
        value rpcm number
        unit m text
        combine - text
        order - text
        area_valid rp number 1
        steps rp number
        steps_expected - number
        note rp text
        class c text
        weight - text +optional
        level - text +optional
        every - text +optional
        """,
    ),
    known_by="class",
)
SERIES = TableSchema(
    "series",
    ("region", "period", "measure"),
    _columns(
        _along("region", "period", "measure"),
        """
        region r text
        period p text
        start p text
        end p text
        variable - text
        measure m text
        value rpm number
        unit m text
        combine - text
        window - number +optional
        order m text
        area_valid rpm number 1
        steps rp number
        steps_expected p number
        note rpm text
        calendar - text +optional
        weight - text +optional
        level - text +optional
        x rpm number degrees_east +optional
        y rpm number degrees_north +optional
        every - text +optional
        """,
    ),
    known_by="steps_expected",
)
COMPARE = TableSchema(
    "compare",
    ("region", "period", "measure", "pair", "statistic"),
    _columns(
        {
            "r": ("region",),
            "p": ("period",),
            "m": ("measure",),
            "i": ("pair",),
            "s": ("statistic",),
            "rpmi": ("region", "period", "measure", "pair"),
            "rpmis": ("region", "period", "measure", "pair", "statistic"),
            "ms": ("measure", "statistic"),
        },
        """
        region r text
        period p text
        variable m text
        measure m text +optional
        condition m text +optional
        count m text +optional
        a i text
        b i text
        statistic s text
        value rpmis number
        unit ms text
        n rpmi number periods
        note rpmis text
        every - text +optional
        """,
    ),
    known_by="b",
    axis_columns={"measure": "variable measure condition count", "pair": "a b"},
)
SPREAD = TableSchema(
    "spread",
    ("region", "period", "measure"),
    _columns(
        _along("region", "period", "measure"),
        """
        region r text
        period p text
        start p text
        end p text
        variable m text
        measure m text +optional
        condition m text +optional
        count m text +optional
        lowest rpm number
        lowest_source rpm text
        highest rpm number
        highest_source rpm text
        range rpm number
        apart rpm text
        unit m text
        n rpm number sources
        note rpm text
        every - text +optional
        """,
    ),
    known_by="lowest_source",
    axis_columns={"measure": "variable measure condition count"},
    shown="range",
)
TRENDS = TableSchema(
    "trends",
    ("region", "period", "measure"),
    _columns(
        _along("region", "period", "measure"),
        """
        region r text
        period p text
        variable m text
        measure m text +optional
        condition m text +optional
        count m text +optional
        first rpm number year
        last rpm number year
        slope rpm number +neutral=0
        lower rpm number
        upper rpm number
        confidence - number 1
        unit m text
        p_value rpm number 1
        p_adjusted rpm number 1
        method - text
        autocorrelation - text +optional
        n rpm number years
        note rpm text
        every - text +optional
        """,
    ),
    known_by="slope",
    axis_columns={"measure": "variable measure condition count"},
    shown="slope",
)
# In this order a table is recognised by its header.
SCHEMAS = (
    TRACE,
    TRENDS,
    COMPARE,
    SPREAD,
    EVENTS,
    RETURN_LEVELS,
    EXTREMES,
    NORMALS,
    ANOMALIES,
    CLASSES,
    SERIES,
)


def schema_of(header: Sequence[str]) -> TableSchema | None:
    """The schema of a table with these columns; None where it is none of them."""
    if "region" not in header:
        return None
    return next((schema for schema in SCHEMAS if schema.known_by in header), None)


def schema_by_axes(table: Table) -> TableSchema:
    """The schema that a table was made by."""
    return next(s for s in SCHEMAS if s.name == table.name and s.axes == tuple(table.axes))
