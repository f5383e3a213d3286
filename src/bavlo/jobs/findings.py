"""What stands out in a table, in sentences."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from bavlo.core.time.periods import cycle_of
from bavlo.figures.map_content import MapContent
from bavlo.figures.style import shown_unit
from bavlo.jobs.wording import counted, rank_in_words, tied_in
from bavlo.tables.table import Table

FROM_EITHER_END = 3  # ranks that stand out
MUCH = 1.5  # standard deviations
LEAST_RECORD = 10  # like periods, from which a record is one
MOST = 12  # sentences of a table


def findings(table: Table) -> tuple[list[str], int]:
    """The sentences that stand out most, and how many more there would be."""
    found = list(FINDERS[table.name](table)) if table.name in FINDERS else []
    return found[:MOST], max(0, len(found) - MOST)


def _alike(values: np.ndarray, n: int) -> str:
    """How many others have the same value: ` and 3 others`."""
    others = int((values == values[n]).sum()) - 1
    return f" and {counted(others, 'other')}" if others else ""


def _in_unit(value: float, unit: str) -> str:
    return f"{value:.4g} {unit}".strip()


def _of_anomalies(table: Table) -> list[str]:
    """Ranks near either end, and scores of 1.5 and more, in the latest period."""
    values, scores = table.full("value"), table.full("score")
    rank, of = table.full("rank"), table.full("ranked_of")
    percent, anomaly = table.full("percent_of_normal"), table.full("anomaly")
    units, notes = table.along("unit", "measure"), table.full("note")
    windows = table.full("window")[0, 0, 0]
    known = np.flatnonzero(~np.isnan(values).all(axis=(0, 2, 3)))
    if not known.size:
        return []
    p = int(known[-1])
    lines = []
    for r, m, w in np.ndindex(values.shape[0], *values.shape[2:]):
        place = r, p, m, w
        if np.isnan(values[place]):
            continue
        tied = tied_in(str(notes[place]))
        from_end = min(rank[place], of[place] + 1 - rank[place] - tied)
        score = scores[place]
        if not (from_end <= FROM_EITHER_END or abs(score) >= MUCH):
            continue
        text = f"{table.labels('region')[r]}, {table.labels('period')[p]}"
        text += f" (last {windows[w]:g} periods)" if windows[w] > 1 else ""
        text += f": {_in_unit(values[place], units[m])}"
        if not np.isnan(percent[place]):
            text += f", {percent[place]:.0f} % of normal"
        elif not np.isnan(anomaly[place]):
            text += f", {anomaly[place]:+.3g} against normal"
        words = rank_in_words(int(rank[place]), tied, int(of[place]), ("lowest", "highest"))
        text += f", the {words}"
        text += f"; score {score:+.1f}" if abs(score) >= MUCH else ""
        lines.append((from_end, -abs(score) if score == score else 0.0, text + "."))
    return [text for _, _, text in sorted(lines)]


def _of_values(table: Table) -> list[str]:
    """Records in the latest period, among the like ones of the record."""
    values = table.full("value").reshape(table.axes["region"], table.axes["period"], -1)
    kinds = np.array([cycle_of(label) or label for label in table.labels("period")], object)
    known = np.flatnonzero(~np.isnan(values).all(axis=(0, 2)))
    if not known.size:
        return []
    p = int(known[-1])
    like = values[:, kinds == kinds[p]]
    count = np.sum(~np.isnan(like), axis=1)
    units = np.broadcast_to(table.full("unit"), table.full("value").shape).reshape(values.shape)
    names = _measured(table)
    lines = []
    for r, m in np.ndindex(count.shape):
        value = values[r, p, m]
        if np.isnan(value) or count[r, m] < LEAST_RECORD:
            continue
        own = like[r, :, m]
        for record, word in ((np.nanmax(own), "highest"), (np.nanmin(own), "lowest")):
            others = int((own == record).sum()) - 1
            if value == record and others < count[r, m] - 1:
                what = f" {names[m]}" if len(names) > 1 else ""
                tie = f", with {counted(others, 'other')}" if others else ""
                lines.append(
                    f"{table.labels('region')[r]}, {table.labels('period')[p]}:{what} "
                    f"{_in_unit(value, units[r, p, m])}, the {word} of {count[r, m]}{tie}."
                )
    return lines


def _measured(table: Table) -> list[str]:
    """What each number of a region and period is."""
    if "condition" in table.axes:
        return [f"{c}, {n}" for c in table.labels("condition") for n in table.labels("count")]
    return [str(name) for name in table.labels("measure")]


def _of_trends(table: Table) -> list[str]:
    """Significant trends, the steepest first."""
    slope, lower, upper = (table.full(name) for name in ("slope", "lower", "upper"))
    least = 1 - float(table.full("confidence").flat[0])
    significant = table.full("p_adjusted") < least
    units = table.along("unit", "measure")
    lines = []
    for r, p, m in np.argwhere(significant).tolist():
        lines.append(
            (
                -abs(slope[r, p, m]),
                f"{table.labels('region')[r]}, {table.labels('period')[p]}: "
                f"{slope[r, p, m]:+.3g} {units[m]} ({lower[r, p, m]:.3g} to {upper[r, p, m]:.3g}), "
                "significant.",
            )
        )
    return [text for _, text in sorted(lines)]


def _of_comparison(table: Table) -> list[str]:
    """The largest bias and the lowest correlation of each pair over all periods."""
    values, statistics = table.full("value"), table.labels("statistic")
    periods = table.labels("period")
    p = periods.index("all") if "all" in periods else 0
    regions, lines = table.labels("region"), []
    pairs = list(zip(table.labels("a"), table.labels("b"), strict=True))
    for n, (a, b) in enumerate(pairs):
        for name, worst in (("bias", np.nanargmax), ("correlation", np.nanargmin)):
            if name not in statistics:
                continue
            s = statistics.index(name)
            column = values[:, p, 0, n, s]
            if np.isnan(column).all():
                continue
            r = int(worst(np.abs(column) if name == "bias" else column))
            unit = str(np.broadcast_to(table.full("unit"), values.shape)[r, p, 0, n, s])
            word = "largest" if name == "bias" else "lowest"
            number = _in_unit(column[r], unit)
            lines.append(f"{b} against {a}: the {word} {name} is {number}, in {regions[r]}.")
    return lines


FINDERS: dict[str, Callable[[Table], Sequence[str]]] = {
    "anomalies": _of_anomalies,
    "series": _of_values,
    "extremes": _of_values,
    "trends": _of_trends,
    "compare": _of_comparison,
}


def in_words(table: Table) -> str:
    """What a table holds and its ends, in two sentences: for those who do not see a figure."""
    header = table.header
    first = f"{table.name.capitalize()}"
    if "variable" in header:
        first += f" of {', '.join(dict.fromkeys(map(str, table.labels('variable'))))}"
    count = len(dict.fromkeys(map(str, table.labels("region"))))
    first += f" in {count} region{'s' if count != 1 else ''}"
    if "period" in header:
        labels = table.labels("period")
        first += f", {labels[0]}" + (f" to {labels[-1]}" if len(labels) > 1 else "")
    shown = "slope" if "slope" in header else "value"
    if shown not in header:
        return f"{first}."
    values = table.column(shown)
    if np.isnan(values).all():
        return f"{first}. No value is known."
    rows = {name: table.column(name) for name in ("region", "period", "unit") if name in header}
    ends = []
    for word, n in (("highest", np.nanargmax(values)), ("lowest", np.nanargmin(values))):
        place = ", ".join(str(rows[name][n]) for name in ("region", "period") if name in rows)
        unit = str(rows["unit"][n]) if "unit" in rows else ""
        ends.append(f"{word} {_in_unit(float(values[n]), unit)} ({place}{_alike(values, int(n))})")
    return f"{first}. The {shown} is {' and '.join(ends)}."


def map_in_words(content: MapContent) -> str:
    """What a map shows, in two sentences."""
    count = len(content.panels)
    of = f"{len(content.labels)} regions" if content.values is not None else "the cells of a grid"
    first = f"{content.title}: {f'{count} maps' if count > 1 else 'a map'} of {of}."
    values = content.values if content.values is not None else content.grid_values
    if np.isnan(values).all():
        return f"{first} No value is known."
    if content.categories:
        names = {code: name for code, name, _ in content.categories}
        codes, counts = np.unique(values[np.isfinite(values)], return_counts=True)
        most = int(codes[counts.argmax()])
        return f"{first} Most often it is {names.get(most, most)}."
    ends = []
    for word, n in (("highest", np.nanargmax(values)), ("lowest", np.nanargmin(values))):
        panel, place = divmod(int(n), values[0].size)
        where = [content.labels[place]] if content.values is not None else []
        where += [content.panels[panel]] if count > 1 else []
        alike = _alike(values.ravel(), int(n)).removeprefix(" ")
        where[-1:] = [f"{where[-1]} {alike}"] if where and alike else where[-1:] or [alike]
        text = _in_unit(float(values.ravel()[n]), shown_unit(content.unit))
        ends.append(f"{word} value is {text}" + (f" ({', '.join(where)})" if where else ""))
    return f"{first} The {' and the '.join(ends)}."
