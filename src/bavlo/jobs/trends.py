"""Slope, confidence interval and significance by region and period of the year."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from bavlo.core.stats.trends import LEAST_PRESENT, LEAST_VALUES, OLS, SEN, adjusted, trends
from bavlo.errors import RequestError
from bavlo.jobs.compare import cycles, within
from bavlo.jobs.matched import Matched, matched
from bavlo.jobs.provenance import provenance_of
from bavlo.jobs.result import TableResult, together
from bavlo.jobs.sources import Source, load_source
from bavlo.jobs.wording import counted, row_count
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request
from bavlo.tables.schema import TRENDS

AUTOCORRELATION = {SEN: "none", OLS: "ar1"}  # of the column; the other methods are ways of it

MOST_IN_WORDS = 10  # trends
NUMBERS = ("slope", "lower", "upper", "p_value", "n", "first", "last", "intercept")


def trends_of_regions(request: Request, report: Reporter) -> TableResult:
    """Trends of every region in every period of the year."""
    return trends_of(request, load_source(request, report), report)


def trends_of(request: Request, source: Source, report: Reporter) -> TableResult:
    """Trends of the regions of one source."""
    results = [_of_one(request, within(request, found)) for found in matched([source])]
    whole = together(request, results)
    share = f"{LEAST_PRESENT:.0%} of the years between the first and the last"
    over = "the regions of a period, variable and measure"
    about = provenance_of(
        request,
        report,
        [source.input],
        whole.summary,
        rules={
            "least": f"{LEAST_VALUES} values, and {share}",
            "p_adjusted": f"Benjamini-Hochberg over {over}",
        },
    )
    return replace(whole, about=about, shapes=source.shapes)


def _of_one(request: Request, found: Matched) -> TableResult:
    """The trends of one sort of periods."""
    if any(label == "all" for label in found.periods):
        raise RequestError("every", "there is no trend of one period", "use month, season or year")
    kinds, cycle = cycles(found)
    ends = np.array([int(end[:4]) for end in found.ends])
    shape = (len(found.regions), len(kinds), len(found.measured))
    out = {name: np.full(shape, np.nan) for name in NUMBERS}
    asked_for = request.trends
    for p in range(len(kinds)):
        years, values = by_year(found, cycle == p, ends)
        of = trends(values, years, asked_for.method, asked_for.confidence)
        for name in NUMBERS:
            out[name][:, p] = getattr(of, name).reshape(shape[0], shape[2])
    p_adjusted = adjusted(out["p_value"])
    table = TRENDS.table(
        {
            "region": found.regions,
            "period": kinds,
            **found.columns(),
            **{name: out[name] for name in NUMBERS if name != "intercept"},
            "confidence": asked_for.confidence,
            "unit": [f"{unit} per decade" if unit else "per decade" for unit in found.units],
            "p_adjusted": p_adjusted,
            "method": OLS if asked_for.method == OLS else SEN,
            "autocorrelation": AUTOCORRELATION.get(asked_for.method, asked_for.method),
            "note": _notes(out),
        }
    )
    significant = p_adjusted < 1 - asked_for.confidence
    lines = [
        f"{row_count(table)}: {counted(shape[0], 'region')} × {counted(shape[1], 'period')} of the "
        f"year × {counted(shape[2], 'measure')}; {int(significant.sum())} significant at "
        f"{asked_for.confidence:g} after adjusting p for the number of regions",
        *_in_words(found, kinds, out, significant),
    ]
    title = f"Trends of {', '.join(dict.fromkeys(m.variable for m in found.measured))}"
    drawing = {"matched": found, "intercept": out["intercept"]}
    return TableResult(table, title, tuple(lines), {}, every=found.every, drawing=drawing)


def by_year(found: Matched, like: np.ndarray, ends: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """All years from first to last, and (Y, R·M) values of the periods of one sort in them."""
    own = ends[like]
    years = np.arange(own.min(), own.max() + 1)
    regions, _, measures = found.values[0].shape
    values = np.full((years.size, regions * measures), np.nan)
    values[own - own.min()] = found.values[0][:, like].transpose(1, 0, 2).reshape(own.size, -1)
    return years, values


def _notes(out: dict[str, np.ndarray]) -> np.ndarray:
    """Why there is no trend."""
    notes = np.full(out["slope"].shape, "", object)
    for place in np.argwhere(np.isnan(out["slope"])).tolist():
        n = out["n"][tuple(place)]
        span = out["last"][tuple(place)] - out["first"][tuple(place)] + 1
        few = n < LEAST_VALUES
        notes[tuple(place)] = f"{n:g} values" if few else f"{n:g} of {span:g} years"
    return notes


def _in_words(
    found: Matched, kinds: list[str], out: dict[str, np.ndarray], significant: np.ndarray
) -> list[str]:
    """The significant trends first, then the others, the steepest first."""
    steep = np.where(np.isnan(out["slope"]), -1, np.abs(out["slope"])) + significant * 1e12
    lines: list[str] = []
    for place in np.argsort(-steep, axis=None, kind="stable").tolist():
        r, p, m = (int(n) for n in np.unravel_index(place, steep.shape))
        slope, lower, upper = (float(out[name][r, p, m]) for name in ("slope", "lower", "upper"))
        if slope != slope or len(lines) >= MOST_IN_WORDS:
            continue
        measured = found.measured[m]
        what = ""
        if len(found.measured) > 1:
            what = f", {' '.join(filter(None, (measured.variable, *measured.matches)))}"
        judged = "significant" if significant[r, p, m] else "not significant"
        lines.append(
            f"{found.regions[r]}, {kinds[p]}{what}: {slope:+.3g} {found.units[m]} a decade "
            f"({lower:.3g} to {upper:.3g}), {judged}"
        )
    return lines
