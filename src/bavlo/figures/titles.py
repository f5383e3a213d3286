"""Titles of charts and maps: quantity, statistic, window and period, in the trade's words."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import date, timedelta

from bavlo.core.stats.normals import MINUS
from bavlo.core.time.periods import STATIC_LABEL, cycle_of
from bavlo.figures.style import Fits, shown_unit
from bavlo.tables.schema import schema_by_axes
from bavlo.tables.table import Table

MONTHS = (
    "January", "February", "March", "April", "May", "June", "July", "August", "September",
    "October", "November", "December",
)  # fmt: skip
# What periods are called, by their place in the year.
SORTS = (
    (r"\d\d", "month"),
    (r"\d\d-\d\d", "day"),
    (r"\d\d-d[1-3]", "dekad"),
    (r"\d\d-p[1-6]", "pentad"),
    (r"DJF|MAM|JJA|SON", "season"),
    (r"year", "year"),
)
WORDS = {
    "normals": "Normals of ",
    "events": "Events: ",
    "trends": "Trends of ",
    "return levels": "Return levels of ",
}
COLUMNS = {
    "anomaly": "anomaly of ",
    "normal": "normal of ",
    "std": "standard deviation of ",
    "score": "standardised anomaly of ",
    "rank": "rank of ",
    "ranked_of": "ranked periods of ",
    "slope": "trend of ",
    "p_value": "p value of the trend of ",
    "p_adjusted": "adjusted p value of the trend of ",
}


def title_of(*tables: Table) -> str:
    """What tables hold, in words, for a chart of all their periods.

    `Rain: total of each month`, `Anomalies of rain, 3 months`, `SPI-3 of rain`.
    """
    title = " and ".join(dict.fromkeys(map(_held, tables)))
    return title[:1].upper() + title[1:]


def map_title(table: Table, column: str, chosen: Sequence[int]) -> str:
    """What a column of a table holds of one period, or of several that have maps of their own.

    `SPI-3 of rain, September to November 2025`, `Rain: total, May 2018, mm`.
    """
    schema = schema_by_axes(table).column(column)
    unit = shown_unit((schema.unit if schema is not None else "") or str(table.labels("unit")[0]))
    of = _quantity(table)
    if column == "score" and _is_spi(table):
        what, unit = f"{_spi(table)} of {of}", ""
    elif column == "percent_of_normal":
        what = f"{of}, percent of normal"
        unit = ""
    elif column in COLUMNS:
        what = COLUMNS[column] + of
    else:
        if table.name == "normals":
            is_change = MINUS in str(table.labels("base")[0])
            of = f"{'change of the normal' if is_change else 'normal'} of {of}"
        what = of if column == "value" else f"{of}, {column.replace('_', ' ')}"
        statistic = _statistic(table)
        what += f": {statistic}" if statistic else ""
    when = _when(table, chosen[0]) if len(chosen) == 1 else ""
    title = ", ".join(filter(None, (what, when, unit)))
    return title[:1].upper() + title[1:]


def span_in_words(start: str, end: str) -> str:
    """The time from one day to another, both included.

    Examples
    --------
    >>> span_in_words("2025-09-01", "2025-11-30")
    'September to November 2025'
    >>> span_in_words("2012-12-01", "2013-02-28")
    'December 2012 to February 2013'
    >>> span_in_words("2013-01-01", "2013-12-31"), span_in_words("2013-06-15", "2013-09-30")
    ('2013', '15 June to 30 September 2013')
    >>> span_in_words("2013-03-05", "2013-03-05")
    '5 March 2013'
    """
    try:
        first, last = date.fromisoformat(start), date.fromisoformat(end)
    except ValueError:  # an hour, or a day of another calendar
        return start if start == end else f"{start} to {end}"
    if first == last:
        return f"{first.day} {MONTHS[first.month - 1]} {first.year}"
    if first.day > 1 or (last + timedelta(days=1)).day > 1:
        begin = f"{first.day} {MONTHS[first.month - 1]}"
        finish = f"{last.day} {MONTHS[last.month - 1]} {last.year}"
    elif (first.year, first.month) == (last.year, last.month):
        return f"{MONTHS[first.month - 1]} {first.year}"
    elif (first.month, last.month) == (1, 12):
        return str(first.year) if first.year == last.year else f"{first.year} to {last.year}"
    else:
        begin, finish = MONTHS[first.month - 1], f"{MONTHS[last.month - 1]} {last.year}"
    return f"{begin}{'' if first.year == last.year else f' {first.year}'} to {finish}"


def _held(table: Table) -> str:
    """What one table holds."""
    of, periods = _quantity(table), _each(table)
    if table.name == "anomalies":
        if _is_spi(table):
            return f"{_spi(table)} of {of}"
        return f"Anomalies of {of}{f', {periods}' if periods else ''}"
    statistic = _statistic(table)
    text = WORDS.get(table.name, "") + of
    if statistic and table.name != "trends":
        joined = ", " if periods.startswith("from ") else " of "
        text += f": {statistic}{joined + periods if periods else ''}"
    return text


def _quantity(table: Table) -> str:
    """What is measured: the variable, or what is counted of it."""
    about = "condition" if "condition" in table.header else "variable"
    names = list(dict.fromkeys(str(text) for text in table.labels(about) if text))
    if not names:
        names = list(dict.fromkeys(map(str, table.labels("variable"))))
    text = ", ".join(names[: Fits.names_in_title])
    return text + (
        f" and {len(names) - Fits.names_in_title} more" if len(names) > Fits.names_in_title else ""
    )


def _statistic(table: Table) -> str:
    """How the values of a period came to be: total, p90 of the cells, days, …"""
    parts = []
    if "statistic" in table.header and table.name == "normals":
        found = [s for s in dict.fromkeys(table.labels("statistic")) if s not in ("mean", "std")]
        parts += found if len(set(table.labels("statistic"))) == 1 else []
    combine = str(table.labels("combine")[0]) if "combine" in table.header else ""
    parts.append({"min": "lowest", "max": "highest"}.get(combine, combine))
    for column, usual, words in (
        ("count", ("", "index"), ""),
        ("class", ("",), ""),
        ("measure", ("", "mean"), " of the cells"),
    ):
        if column in table.header:
            different = dict.fromkeys(map(_text, table.labels(column)))
            own = [text for text in different if text not in usual]
            if combine == "" and column == "measure" and table.name == "series":
                own = list(different)  # of a grid without time
            if own and len(own) == len(different):
                parts.append(f"{' and '.join(own)}{words}")
    return ", ".join(filter(None, parts))


def _text(value: object) -> str:
    return f"{value:g}" if isinstance(value, float) else str(value)


def _windows(table: Table) -> list[int]:
    if "window" not in table.header:
        return [1]
    return sorted({int(n) for n in table.full("window").ravel().tolist() if n == n})


def _sort(table: Table) -> str:
    """What the periods of a table are called; empty where they are of no one sort."""
    if "period" not in table.header:
        return ""
    cycles = {cycle_of(str(label)) or str(label) for label in table.labels("period")}
    for form, name in SORTS:
        if all(re.fullmatch(form, cycle) for cycle in cycles):
            return name
    return ""


def _each(table: Table) -> str:
    """Which periods each value is of: `each month`, `3 months`, `from 1 January to 20 June`."""
    sort, windows = _sort(table), _windows(table)
    if windows != [1]:
        words = " and ".join(map(str, windows))
        return f"{words} {(sort or 'period') + 's'}"
    if "period" in table.header and table.labels("period") == ["all"]:
        return "the whole time"
    if "period" in table.header and table.labels("period") == [STATIC_LABEL]:
        return ""
    alike = _alike(table)
    return alike or (f"each {sort}" if sort else "each period" if "period" in table.header else "")


def _alike(table: Table) -> str:
    """The days from which to which all periods go where these do not fill a year; else empty."""
    if "start" not in table.header or "period" not in table.axes:
        return ""
    starts, ends = table.along("start", "period"), table.along("end", "period")
    if len({cycle_of(str(label)) for label in table.labels("period")}) != 1 or len(starts) < 2:
        return ""
    # Of 29 February, 28 stands for it in other years.
    days = zip(starts, ends, strict=True)
    spans = {(start[5:10], end[5:10].replace("02-29", "02-28")) for start, end in days}
    if len(spans) != 1:
        return ""
    (first, last) = spans.pop()
    try:
        begin, end = date.fromisoformat(f"2001-{first}"), date.fromisoformat(f"2001-{last}")
    except ValueError:
        return ""
    if (end - begin).days % 365 == 364:
        return ""
    words = span_in_words(begin.isoformat(), end.isoformat()).replace(" 2001", "")
    return f"from {words} of each year"


def _is_spi(table: Table) -> bool:
    return "score_kind" in table.header and "spi" in table.labels("score_kind")


def _spi(table: Table) -> str:
    """SPI with the number of its months, as SPI-3."""
    starts, ends = (table.full(name)[0, -1, 0] for name in ("start", "end"))
    months = []
    for start, end in zip(starts.tolist(), ends.tolist(), strict=True):
        try:
            first, last = date.fromisoformat(start), date.fromisoformat(end) + timedelta(days=1)
        except ValueError:
            return "SPI"
        if first.day > 1 or last.day > 1:
            return "SPI"
        months.append(12 * (last.year - first.year) + last.month - first.month)
    return " and ".join(f"SPI-{number}" for number in months)


def _when(table: Table, period: int) -> str:
    """One period in words."""
    label = str(table.labels("period")[period])
    if label == STATIC_LABEL:
        return ""
    if "start" in table.header:
        axes = [axis for axis in table.axes if axis not in ("region", "period")]
        starts, ends = table.full("start"), table.full("end")
        at = tuple([0, period] + [0] * len(axes)) if "region" in table.axes else (period,)
        if starts[at]:
            return span_in_words(str(starts[at]), str(ends[at]))
    if re.fullmatch(r"\d\d", label):
        return MONTHS[int(label) - 1]
    day = re.fullmatch(r"(\d\d)-(\d\d)", label)
    if day:
        return f"{int(day[2])} {MONTHS[int(day[1]) - 1]}"
    return label
