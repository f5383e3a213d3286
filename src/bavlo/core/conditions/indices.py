"""The 27 indices of the ETCCDI, by their published names and definitions.

Definitions after Zhang et al. (2011, WIREs Climate Change 2, 851-870) and Klein Tank et al.
(2009, WMO-TD No. 1500); the base-period bootstrap after Zhang et al. (2005, J. Climate 18,
1641-1651). RR is the day's rain, TX and TN its highest and lowest temperature, TG their mean.
"""

from __future__ import annotations

import functools
import re
from collections.abc import Callable, Collection, Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from bavlo.core.conditions.counting import Counting, Occurrence, PeriodSteps
from bavlo.core.conditions.spells import find_spells
from bavlo.core.stats.bootstrap import percentiles_and_exceedance
from bavlo.core.stats.calendar_percentiles import (
    CalendarDays,
    at_steps,
    by_calendar_day,
    counts_above,
    of_days,
)
from bavlo.core.stats.normals import Base
from bavlo.errors import RequestError, one_of

RAIN, TMAX, TMIN = "rain", "tmax", "tmin"
SHORT = {RAIN: "RR", TMAX: "TX", TMIN: "TN"}
MOST_MISSING = {"month": 3, "year": 15}  # days
LONG_SPELL = 6  # days
GROWING = 5.0  # degC
FAR = 10**6  # steps


@dataclass(eq=False)
class Record:
    """The whole daily record of some columns.

    Parameters
    ----------
    rain, tmax, tmin : (T, K) float64
        mm and degC, NaN where there is no data; empty where not given.
    places
        The periods, months or years.
    months
        The same for calendar months.
    days
        Calendar days of the steps.
    base
        Years that percentiles are taken from; None where no index needs them.
    wet
        Wet-day limit, mm.
    percents
        Of each variable the percentiles of calendar days that are asked for.
    bootstrapped
        Variables of which days of the base are judged by the other years only.
    """

    rain: np.ndarray
    tmax: np.ndarray
    tmin: np.ndarray
    period_steps: PeriodSteps
    months: PeriodSteps
    days: CalendarDays
    base: Base | None
    wet: float = 1.0
    percents: Mapping[str, tuple[float, ...]] = field(default_factory=dict)
    bootstrapped: Collection[str] = ()

    def __post_init__(self) -> None:
        self._of_base: dict[str, tuple[np.ndarray, np.ndarray | None]] = {}
        self._missing: dict[tuple[str, ...], np.ndarray] = {}
        self._lacking: dict[tuple[str, ...], np.ndarray] = {}

    @property
    def columns(self) -> int:
        """Number of columns."""
        return int(max(a.shape[1] for a in (self.rain, self.tmax, self.tmin)))

    def of(self, name: str) -> np.ndarray:
        """(T, K) values of a variable."""
        return np.asarray(getattr(self, name))

    def reduced(self, values: np.ndarray, how: np.ufunc, empty: float) -> np.ndarray:
        """(P, K) sums, lowest or highest values of the periods, leaving out NaN."""
        filled = np.where(np.isnan(values), empty, values)
        out = np.full((self.period_steps.begin.size, values.shape[1]), empty)
        for p, (begin, end) in enumerate(
            zip(self.period_steps.begin, self.period_steps.end, strict=True)
        ):
            if end > begin:
                out[p] = how.reduce(filled[begin:end], axis=0)
        return out

    def sum(self, values: np.ndarray) -> np.ndarray:
        """(P, K) sums."""
        return self.reduced(values, np.add, 0.0)

    def counts(
        self, occurs: np.ndarray, names: tuple[str, ...], least: int = 1
    ) -> dict[str, np.ndarray]:
        """Counts of days that meet something, spells running on over the edges of periods."""
        counting = Counting(self.period_steps, names, least)
        state = counting.close(
            counting.update(0, Occurrence(occurs, np.ones((1, occurs.shape[1]), bool)))
        )
        shape = (self.period_steps.begin.size, occurs.shape[1])
        out = {name: np.zeros(shape) for name in names}
        for name in names:
            out[name][state.periods] = state.counts[name]
        return out

    def number(self, occurs: np.ndarray) -> np.ndarray:
        """(P, K) days."""
        return self.counts(occurs, ("days",))["days"]

    def of_base(self, name: str, percent: float) -> tuple[np.ndarray, np.ndarray | None]:
        """Of a percentile of the calendar days of the base, as indices of this record ask for it.

        Returns
        -------
        limits : (length + 1, K)
        beyond : (T, K)
            How far the days of the base are beyond it; None without bootstrap.
        """
        assert self.base is not None
        given = self.of(name), self.days, self.base, self.percents[name]
        if name not in self._of_base and name in self.bootstrapped:
            self._of_base[name] = percentiles_and_exceedance(*given)
        elif name not in self._of_base:
            self._of_base[name] = by_calendar_day(*given), None
        limits, beyond = self._of_base[name]
        n = self.percents[name].index(percent)
        return limits[n], None if beyond is None else beyond[n]

    def limits(self, name: str, percent: float) -> np.ndarray:
        """(T, K) percentiles of the calendar days of the base."""
        return at_steps(self.of_base(name, percent)[0], self.days)

    def beyond(self, name: str, percent: float) -> np.ndarray:
        """(P, K) percent of days beyond the percentile of their calendar day."""
        assert self.base is not None
        values = self.of(name)
        limits, inside = self.limits(name, percent), self.of_base(name, percent)[1]
        share = (values > limits if counts_above(percent) else values < limits).astype(np.float64)
        if inside is not None:
            years = (self.days.year >= self.base.first) & (self.days.year <= self.base.last)
            share[years] = inside[years]
        share[np.isnan(values) | np.isnan(limits)] = np.nan
        valid = self.sum((~np.isnan(share)).astype(np.float64))
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.asarray(100 * self.sum(share) / valid)

    def wet_limit(self, percent: float) -> np.ndarray:
        """(K,) percentile of the wet days of the base."""
        assert self.base is not None
        return np.asarray(of_days(self.rain, self.days, self.base, (percent,), self.wet)[0])

    @cached_property
    def is_wet(self) -> np.ndarray:
        """(T, K) bool."""
        return np.asarray(self.rain >= self.wet)

    def missing(self, names: tuple[str, ...]) -> np.ndarray:
        """(T, K) days on which one of the variables has no data."""
        if names not in self._missing:
            self._missing[names] = functools.reduce(
                np.logical_or, (np.isnan(self.of(name)) for name in names)
            )
        return self._missing[names]

    def lacks_too_many(self, names: tuple[str, ...], period: str) -> np.ndarray:
        """(P, K) periods with too many days on which one of the variables has no data.

        Parameters
        ----------
        period
            month or year.
        """
        if names in self._lacking:
            return self._lacking[names]
        missing = self.missing(names)
        lacking = missing_days(missing, self.period_steps) > MOST_MISSING[period]
        if period == "year":
            months = missing_days(missing, self.months) > MOST_MISSING["month"]
            for p, (begin, end) in enumerate(
                zip(self.period_steps.begin, self.period_steps.end, strict=True)
            ):
                if end > begin:
                    inside = np.unique(self.months.period[begin:end])
                    lacking[p] |= months[inside[inside >= 0]].any(axis=0)
        self._lacking[names] = lacking
        return lacking

    def five_days(self) -> np.ndarray:
        """(T, K) rain of the five days that end with each; NaN where one of them is missing."""
        out = np.full(self.rain.shape, np.nan)
        if len(self.rain) >= 5:
            view = np.lib.stride_tricks.sliding_window_view(self.rain, 5, axis=0)
            out[4:] = view.sum(axis=-1)
        for step in np.flatnonzero(~self.period_steps.follows).tolist():
            if step:
                out[step : step + 4] = np.nan
        return out


def _highest(name: str) -> Callable[[Record], np.ndarray]:
    return lambda r: _known(r.reduced(r.of(name), np.maximum, -np.inf))


def _lowest(name: str) -> Callable[[Record], np.ndarray]:
    return lambda r: _known(r.reduced(r.of(name), np.minimum, np.inf))


def _known(values: np.ndarray) -> np.ndarray:
    return np.where(np.isfinite(values), values, np.nan)


def _days(name: str, test: Callable[[np.ndarray], np.ndarray]) -> Callable[[Record], np.ndarray]:
    return lambda r: r.number(test(r.of(name)))


def _longest(test: Callable[[Record], np.ndarray]) -> Callable[[Record], np.ndarray]:
    return lambda r: r.counts(test(r), ("longest",))["longest"]


def _very_wet(percent: float) -> Callable[[Record], np.ndarray]:
    def compute(r: Record) -> np.ndarray:
        limit = r.wet_limit(percent)
        total = r.sum(np.where(r.is_wet & (r.rain > limit), r.rain, 0.0))
        return np.where(np.isnan(limit), 0.0, total)  # a base without wet days has none above

    return compute


def _intensity(r: Record) -> np.ndarray:
    wet = r.number(r.is_wet)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(wet > 0, r.sum(np.where(r.is_wet, r.rain, 0.0)) / wet, np.nan)


def _range(r: Record) -> np.ndarray:
    away = r.tmax - r.tmin
    valid = r.sum((~np.isnan(away)).astype(np.float64))
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray(r.sum(away) / valid)


def _growing_season(r: Record) -> np.ndarray:
    """Days from the first warm spell of six days to the first cold one after the middle."""
    mean = (r.tmax + r.tmin) / 2
    out = np.zeros((r.period_steps.begin.size, r.columns))
    for p, (begin, end) in enumerate(zip(r.period_steps.begin, r.period_steps.end, strict=True)):
        if end - begin < 360:
            out[p] = np.nan
            continue
        # 1 July of a year that begins in January, 1 January of one that begins in July.
        half = int(begin + np.searchsorted(r.months.period[begin:end], _half_year(r, begin)))
        warm = _first_spell(mean[begin:end] > GROWING)
        cold = _first_spell(mean[half:end] < GROWING) + (half - begin)
        cold = np.where(cold > end - begin, end - begin, cold)
        out[p] = np.where(warm < end - begin, np.maximum(cold - warm, 0), 0)
    return out


def _half_year(r: Record, begin: int) -> int:
    """Number of the sixth month after the one in which a year begins."""
    return int(r.months.period[begin]) + 6


def _first_spell(occurs: np.ndarray) -> np.ndarray:
    """(K,) first step of the first run of six met steps; far away where there is none."""
    long_enough = find_spells(occurs, np.zeros(len(occurs), bool)).length >= LONG_SPELL
    return np.where(long_enough.any(axis=0), long_enough.argmax(axis=0), FAR)


@dataclass(frozen=True)
class Index:
    """One index.

    Parameters
    ----------
    name
        As published.
    title, definition
        In words.
    unit
        Of its values.
    needs
        Variables.
    periods
        month, year or both.
    has_base
        Whether it needs base years.
    bootstrapped
        Whether days of the base are judged by its other years only.
    needs_number
        Whether it has to be asked for with a number of millimetres.
    seasons_cross_years
        Whether years have to begin in the cold season.
    percent
        Percentile of the calendar day that days are held against.
    compute
        From a record to (P, K) values.
    """

    name: str
    title: str
    definition: str
    unit: str
    needs: tuple[str, ...]
    periods: tuple[str, ...]
    compute: Callable[[Record], np.ndarray]
    has_base: bool = False
    bootstrapped: bool = False
    needs_number: bool = False
    seasons_cross_years: bool = False
    percent: float | None = None


YEAR, BOTH = ("year",), ("month", "year")


def _beyond_calendar_day(name: str, title: str, variable: str, percent: float) -> Index:
    """The percent of days beyond a percentile of their calendar day."""
    days = f"days with {_side(variable, percent)}"
    return Index(
        name, title, f"percent of {days}", "%", (variable,), BOTH,
        lambda r: r.beyond(variable, percent), has_base=True, bootstrapped=True, percent=percent,
    )  # fmt: skip


def _in_long_spells(name: str, title: str, variable: str, percent: float) -> Index:
    """Days in long spells of days beyond a percentile of their calendar day."""

    def compute(r: Record) -> np.ndarray:
        values, limits = r.of(variable), r.limits(variable, percent)
        occurs = values > limits if counts_above(percent) else values < limits
        return r.counts(occurs, ("days",), LONG_SPELL)["days"]

    spells = f"days in spells of at least {LONG_SPELL} with {_side(variable, percent)}"
    return Index(
        name, title, spells, "days", (variable,), YEAR, compute, has_base=True, percent=percent
    )


def _side(variable: str, percent: float) -> str:
    side = "above" if counts_above(percent) else "below"
    return f"{SHORT[variable]} {side} the {percent:g}th percentile of its calendar day"


INDICES: dict[str, Index] = {
    index.name: index
    for index in (
        Index("FD", "frost days", "days with TN < 0 °C", "days", (TMIN,), YEAR,
              _days(TMIN, lambda v: v < 0)),
        Index("SU", "summer days", "days with TX > 25 °C", "days", (TMAX,), YEAR,
              _days(TMAX, lambda v: v > 25)),
        Index("ID", "icing days", "days with TX < 0 °C", "days", (TMAX,), YEAR,
              _days(TMAX, lambda v: v < 0)),
        Index("TR", "tropical nights", "days with TN > 20 °C", "days", (TMIN,), YEAR,
              _days(TMIN, lambda v: v > 20)),
        Index("GSL", "growing season length",
              "days from the first 6 days on end with TG > 5 °C to the first 6 days on end with "
              "TG < 5 °C after the middle of the year", "days", (TMAX, TMIN), YEAR,
              _growing_season, seasons_cross_years=True),
        Index("TXx", "highest TX", "highest daily TX", "degC", (TMAX,), BOTH, _highest(TMAX)),
        Index("TNx", "highest TN", "highest daily TN", "degC", (TMIN,), BOTH, _highest(TMIN)),
        Index("TXn", "lowest TX", "lowest daily TX", "degC", (TMAX,), BOTH, _lowest(TMAX)),
        Index("TNn", "lowest TN", "lowest daily TN", "degC", (TMIN,), BOTH, _lowest(TMIN)),
        _beyond_calendar_day("TN10p", "cold nights", TMIN, 10),
        _beyond_calendar_day("TX10p", "cold days", TMAX, 10),
        _beyond_calendar_day("TN90p", "warm nights", TMIN, 90),
        _beyond_calendar_day("TX90p", "warm days", TMAX, 90),
        _in_long_spells("WSDI", "warm spell duration", TMAX, 90),
        _in_long_spells("CSDI", "cold spell duration", TMIN, 10),
        Index("DTR", "daily temperature range", "mean of TX - TN", "degC", (TMAX, TMIN), BOTH,
              _range),
        Index("Rx1day", "highest 1-day rain", "highest daily RR", "mm", (RAIN,), BOTH,
              _highest(RAIN)),
        Index("Rx5day", "highest 5-day rain", "highest RR of 5 days on end, told by the last",
              "mm", (RAIN,), BOTH,
              lambda r: _known(r.reduced(r.five_days(), np.maximum, -np.inf))),
        Index("SDII", "simple daily intensity", "total of the wet days divided by their number",
              "mm day-1", (RAIN,), YEAR, _intensity),
        Index("R10mm", "heavy rain days", "days with RR ≥ 10 mm", "days", (RAIN,), YEAR,
              _days(RAIN, lambda v: v >= 10)),
        Index("R20mm", "very heavy rain days", "days with RR ≥ 20 mm", "days", (RAIN,), YEAR,
              _days(RAIN, lambda v: v >= 20)),
        Index("Rnnmm", "days of nn mm", "days with RR ≥ nn mm; ask for it as R50mm", "days",
              (RAIN,), YEAR, _days(RAIN, lambda v: v >= np.inf), needs_number=True),
        Index("CDD", "consecutive dry days", "longest spell of days below the wet-day limit",
              "days", (RAIN,), YEAR, _longest(lambda r: r.rain < r.wet)),
        Index("CWD", "consecutive wet days", "longest spell of wet days", "days", (RAIN,), YEAR,
              _longest(lambda r: r.is_wet)),
        Index("R95p", "very wet days", "total of the days with RR above the 95th percentile of "
              "wet days", "mm", (RAIN,), YEAR, _very_wet(95), True),
        Index("R99p", "extremely wet days", "total of the days with RR above the 99th percentile "
              "of wet days", "mm", (RAIN,), YEAR, _very_wet(99), True),
        Index("PRCPTOT", "total of wet days", "total of the wet days", "mm", (RAIN,), YEAR,
              lambda r: r.sum(np.where(r.is_wet, r.rain, 0.0))),
    )
}  # fmt: skip


def percents_of(indices: Iterable[Index]) -> dict[str, tuple[float, ...]]:
    """Of each variable the percentiles of calendar days that indices need."""
    pairs = {(index.needs[0], index.percent) for index in indices if index.percent is not None}
    return {
        name: tuple(sorted(percent for other, percent in pairs if other == name))
        for name in sorted({name for name, _ in pairs})
    }


def bootstrapped_variables(indices: Iterable[Index]) -> frozenset[str]:
    """Variables of which some of the indices judge days of the base by its other years only."""
    return frozenset(index.needs[0] for index in indices if index.bootstrapped)


def find_index(name: str) -> Index:
    """An index by its published name, whatever the case; `R50mm` is Rnnmm with nn = 50."""
    known = {each.lower(): each for each in INDICES}
    if name.strip().lower() in known:
        found = INDICES[known[name.strip().lower()]]
        if found.needs_number:
            raise RequestError("index", "Rnnmm needs its number of millimetres", "ask for R50mm")
        return found
    match = re.fullmatch(r"r(\d+(?:\.\d+)?)mm", name.strip().lower())
    if match:
        least = float(match.group(1))
        return Index(
            f"R{match.group(1)}mm",
            f"days of {match.group(1)} mm",
            f"days with RR ≥ {match.group(1)} mm",
            "days",
            (RAIN,),
            YEAR,
            _days(RAIN, lambda v: v >= least),
        )
    raise RequestError("index", f"'{name}' is no index", one_of(name, [*INDICES, "all"]))


def index_values(index: Index, record: Record, period: str, own_rule: bool) -> np.ndarray:
    """(P, K) values of an index, NaN where too many days are missing.

    Parameters
    ----------
    period
        month or year.
    own_rule
        At most 3 days missing in a month, 15 in a year and 3 in each of its months; else the
        caller judges.
    """
    with np.errstate(invalid="ignore"):
        values = index.compute(record)
    if not own_rule:
        return values
    return np.where(record.lacks_too_many(index.needs, period), np.nan, values)


def missing_days(missing: np.ndarray, period_steps: PeriodSteps) -> np.ndarray:
    """(P, K) steps of each period that are missing; those not in the record at all count too."""
    out = np.empty((period_steps.begin.size, missing.shape[1]))
    expected = (
        period_steps.expected
        if period_steps.expected is not None
        else period_steps.end - period_steps.begin
    )
    for p, (begin, end) in enumerate(zip(period_steps.begin, period_steps.end, strict=True)):
        out[p] = expected[p] - (end - begin) + missing[begin:end].sum(axis=0)
    return out
