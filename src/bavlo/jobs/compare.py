"""How well sources agree by region and period of the year, or how far they lie apart."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from itertools import combinations
from typing import Any

import numpy as np

from bavlo.core.stats.agreement import AGREEMENTS, Spread, agreement, own_anomalies, spread
from bavlo.core.stats.normals import Base, in_years
from bavlo.core.time.periods import cycle_of
from bavlo.core.values.combine import TOTAL
from bavlo.errors import RequestError
from bavlo.jobs.matched import Matched, matched
from bavlo.jobs.provenance import provenance_of
from bavlo.jobs.result import TableResult, together
from bavlo.jobs.sources import Source, load_sources
from bavlo.jobs.wording import counted, row_count
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request
from bavlo.tables.schema import COMPARE, SPREAD

ALL = "all"
ANOMALY = "anomaly"
WORST = 3  # places that are told in words


def compare(request: Request, report: Reporter) -> TableResult:
    """Agreement of every pair of sources, or the spread of all of them."""
    return comparison_of(request, load_sources(request, report), report)


def comparison_of(request: Request, sources: Sequence[Source], report: Reporter) -> TableResult:
    """How some sources agree, or how far they lie apart."""
    if len(sources) < 2:
        raise RequestError("", "one source is given", "give two or more, as A=a.csv B=b.csv")
    pairs = _pairs(request, [source.name for source in sources])
    results = []
    for found in matched(sources):
        for text in found.left_out:
            report.warn(text)
        found = within(request, found)
        if request.comparing.quantity == ANOMALY:
            found = _as_anomalies(found, request.climate.base)
        if request.comparing.spread:
            results.append(_spread(request, found))
        else:
            results.append(_agreement(request, found, pairs))
    whole = together(request, results)
    about = _about(request, sources, whole.summary, report)
    shapes = next((source.shapes for source in sources if source.shapes is not None), None)
    return replace(whole, about=about, shapes=shapes)


def _pairs(request: Request, names: list[str]) -> list[tuple[int, int]]:
    """Numbers of the sources a and b of each pair."""
    against = request.comparing.against
    if against is None:
        return list(combinations(range(len(names)), 2))
    if against not in names:
        raise RequestError("against", f"no source is called {against}", f"there are: {names}")
    first = names.index(against)
    return [(first, other) for other in range(len(names)) if other != first]


def within(request: Request, found: Matched) -> Matched:
    """The periods that are asked for."""
    during = request.time.during
    if during is None:
        return found
    first, last = during.instants("standard")
    low, high = (np.datetime64(int(t), "us").astype("M8[D]") for t in (first, last - 1))
    starts = np.array([text[:10] for text in found.starts], "M8[D]")
    ends = np.array([text[:10] for text in found.ends], "M8[D]")
    keep = np.flatnonzero((starts >= low) & (ends <= high))
    if not keep.size:
        raise RequestError("during", f"{during} holds none of the common periods", "widen it")
    return replace(
        found,
        periods=[found.periods[n] for n in keep],
        starts=[found.starts[n] for n in keep],
        ends=[found.ends[n] for n in keep],
        values=[values[:, keep] for values in found.values],
    )


def cycles(found: Matched) -> tuple[list[str], np.ndarray]:
    """Periods of the year in the order in which they come, and the number of each period's."""
    kinds = [cycle_of(label) or ALL for label in found.periods]
    order = list(dict.fromkeys(kinds))
    if len(order) > 1:
        order.sort(key=lambda kind: _position(found, kinds, kind))
    return order, np.array([order.index(kind) for kind in kinds])


def _position(found: Matched, kinds: list[str], kind: str) -> tuple[str, str]:
    """Where a period of the year stands in it: by the day on which it begins."""
    first = kinds.index(kind)
    return found.starts[first][5:], kind


def _flat(values: np.ndarray) -> np.ndarray:
    """(R, P, M) as (P, R·M)."""
    return np.ascontiguousarray(values.transpose(1, 0, 2).reshape(values.shape[1], -1))


def _inside(found: Matched, base: Base | None) -> np.ndarray:
    """(P,) bool the periods that own means are taken over: all of them without a base."""
    if base is None:
        return np.ones(len(found.periods), bool)
    inside = in_years(np.array([int(end[:4]) for end in found.ends]), base)
    if not inside.any():
        raise RequestError("base", f"{base} is outside the common periods", "choose others")
    return np.asarray(inside)


def _as_anomalies(found: Matched, base: Base | None) -> Matched:
    """Each source minus its own mean of that period of the year, over what all have."""
    _, cycle = cycles(found)
    known = ~np.any([np.isnan(values) for values in found.values], axis=0)
    inside = _inside(found, base)
    out = []
    for values in found.values:
        flat = _flat(np.where(known, values, np.nan))
        anomalies = own_anomalies(flat, cycle, inside)
        regions, periods, measures = values.shape
        out.append(anomalies.reshape(periods, regions, measures).transpose(1, 0, 2))
    return replace(found, values=out)


def _agreement(request: Request, found: Matched, pairs: Sequence[tuple[int, int]]) -> TableResult:
    """The table of the statistics of all pairs."""
    kinds, cycle = cycles(found)
    periods = [ALL, *kinds] if len(kinds) > 1 else [ALL]
    statistics = _statistics(request, found)
    shape = (len(found.regions), len(periods), len(found.measured), len(pairs))
    value = np.full((*shape, len(statistics)), np.nan)
    n = np.zeros(shape)
    inside = _inside(found, request.climate.base)
    # For fairness every pair is judged by the periods that all sources have.
    missing = np.any([np.isnan(values) for values in found.values], axis=0)
    flat = [_flat(np.where(missing, np.nan, values)) for values in found.values]
    away = [own_anomalies(values, cycle, inside) for values in flat]
    for i, (a, b) in enumerate(pairs):
        for p, label in enumerate(periods):
            like = slice(None) if label == ALL else cycle == kinds.index(label)
            of, count = agreement(flat[a][like], flat[b][like], away[a][like], away[b][like])
            back = (len(found.regions), len(found.measured))
            n[:, p, :, i] = count.reshape(back)
            for s, name in enumerate(statistics):
                value[:, p, :, i, s] = of[name].reshape(back)
    totals = np.array([combine == TOTAL for combine in found.combines])
    if "percent_bias" in statistics:
        value[:, :, ~totals, :, statistics.index("percent_bias")] = np.nan
    table = COMPARE.table(
        {
            "region": found.regions,
            "period": periods,
            **found.columns(),
            "a": [found.names[a] for a, _ in pairs],
            "b": [found.names[b] for _, b in pairs],
            "statistic": statistics,
            "value": value,
            "unit": np.array(
                [[AGREEMENTS[s].unit or unit for s in statistics] for unit in found.units], object
            ),
            "n": n,
            "note": _notes(value, n),
        }
    )
    lines = [
        f"{row_count(table)}: {counted(len(found.regions), 'region')} × "
        f"{counted(len(periods), 'period')} × {counted(len(pairs), 'pair')} × "
        f"{counted(len(statistics), 'statistic')}",
        *_missing_in_words(found, missing),
        *_pairs_in_words(found, pairs, value, n, statistics),
    ]
    title = f"Agreement of {' and '.join(found.names)}"
    return TableResult(
        table, title, tuple(lines), {}, every=found.every, drawing={"matched": found}
    )


def _statistics(request: Request, found: Matched) -> list[str]:
    """Those that apply: percent of totals only, and not of anomalies."""
    percent = TOTAL in found.combines and request.comparing.quantity != ANOMALY
    return [name for name in AGREEMENTS if percent or name != "percent_bias"]


def _notes(value: np.ndarray, n: np.ndarray) -> np.ndarray:
    """Why a statistic is empty."""
    notes = np.full(value.shape, "", object)
    for place in np.argwhere(np.isnan(value)).tolist():
        count = n[tuple(place[:-1])]
        notes[tuple(place)] = f"{count:g} periods" if count < WORST else "does not apply"
    return notes


def _missing_in_words(found: Matched, missing: np.ndarray) -> list[str]:
    """How many periods of regions count, and where a source lacks a value."""
    total, lacking = missing.size, int(missing.sum())
    lines = [
        f"{found.periods[0]}..{found.periods[-1]}: {len(found.periods)} periods that all sources "
        f"have; {total - lacking} of {total} values count"
    ]
    if lacking:
        each = [
            f"{name} lacks {int(np.isnan(values).sum())}"
            for name, values in zip(found.names, found.values, strict=True)
            if np.isnan(values).any()
        ]
        lines.append(f"left out where not all sources have a value: {'; '.join(each)}")
    return lines


def _pairs_in_words(
    found: Matched,
    pairs: Sequence[tuple[int, int]],
    value: np.ndarray,
    n: np.ndarray,
    statistics: Sequence[str],
) -> list[str]:
    """Each pair in a sentence, with the region of the largest bias."""
    lines = []
    for i, (a, b) in enumerate(pairs):
        for m, measured in enumerate(found.measured):
            bias = value[:, 0, m, i, statistics.index("bias")]
            if not np.isfinite(bias).any():
                continue
            worst = int(np.nanargmax(np.abs(bias)))
            alike = float(np.nanmedian(value[:, 0, m, i, statistics.index("correlation")]))
            what = f" ({measured.measure})" if len(found.measured) > 1 else ""
            lines.append(
                f"{found.names[b]} against {found.names[a]}{what}: bias from "
                f"{np.nanmin(bias):+.3g} to {np.nanmax(bias):+.3g} {found.units[m]}, largest in "
                f"{found.regions[worst]}; correlation {alike:.3f} in the middle of regions"
            )
    return lines


def _spread(request: Request, found: Matched) -> TableResult:
    """The table of how far all sources lie apart."""
    regions, periods, measures = found.values[0].shape
    flat = spread([_flat(values) for values in found.values])

    def back(array: np.ndarray) -> np.ndarray:
        return array.reshape(periods, regions, measures).transpose(1, 0, 2)

    names = np.array([*found.names, ""], object)  # the last one for none
    span = back(flat.span)
    notes = np.full(span.shape, "", object)
    count = back(flat.n)
    notes[count < 2] = [f"{number} of {len(found.names)} sources" for number in count[count < 2]]
    table = SPREAD.table(
        {
            "region": found.regions,
            "period": found.periods,
            "start": found.starts,
            "end": found.ends,
            **found.columns(),
            "lowest": back(flat.lowest),
            "lowest_source": names[back(flat.lowest_of)],
            "highest": back(flat.highest),
            "highest_source": names[back(flat.highest_of)],
            "range": span,
            "apart": names[back(flat.apart)],
            "unit": found.units,
            "n": count,
            "note": notes,
        }
    )
    lines = [
        f"{row_count(table)}: {counted(regions, 'region')} × {counted(periods, 'period')}, "
        f"{len(found.names)} sources",
        *_worst_in_words(found, flat),
    ]
    title = f"Spread of {', '.join(found.names)}"
    return TableResult(
        table, title, tuple(lines), {}, every=found.every, drawing={"matched": found}
    )


def _worst_in_words(found: Matched, flat: Spread) -> list[str]:
    """Where and when they lie farthest apart, a region once."""
    measures = len(found.measured)
    span = np.where(np.isnan(flat.span), -1, flat.span)
    lines: list[str] = []
    seen: set[int] = set()
    for place in np.argsort(-span, axis=None):
        p, k = np.unravel_index(int(place), span.shape)
        r, m = divmod(int(k), measures)
        if span[p, k] <= 0 or len(lines) >= WORST:
            break
        if r in seen:
            continue
        seen.add(r)
        apart = int(flat.apart[p, k])
        unit = found.units[m]
        if apart >= 0:
            others = [v[r, p, m] for s, v in enumerate(found.values) if s != apart]
            gap = found.values[apart][r, p, m] - float(np.nanmedian(others))
            side = "above" if gap > 0 else "below"
            text = f"{found.names[apart]} {abs(gap):.3g} {unit} {side} the others"
        else:
            high, low = int(flat.highest_of[p, k]), int(flat.lowest_of[p, k])
            text = f"{found.names[high]} {span[p, k]:.3g} {unit} above {found.names[low]}"
        lines.append(f"{found.periods[p]}: {text} in {found.regions[r]}")
    return lines


def _about(
    request: Request, sources: Sequence[Source], summary: tuple[str, ...], report: Reporter
) -> dict[str, Any]:
    """Provenance: what was asked, and that of every source."""
    base = request.climate.base
    over = f"base {base}" if base else "over these periods"
    return provenance_of(
        request,
        report,
        [{"source": source.name, **source.input} for source in sources],
        summary,
        rules={
            "periods": "only those that all sources have",
            "anomalies": f"of each source's own mean of that period of the year, {over}",
        },
    )
