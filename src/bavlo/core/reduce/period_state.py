"""Sums over the steps of periods, on their way from blocks of work to values."""

from __future__ import annotations

from dataclasses import astuple, dataclass, field, replace

import numpy as np

from bavlo.core.reduce.protocol import ENOUGH
from bavlo.core.time.assignment import Assignment
from bavlo.core.values.combine import MAX, MEAN, MIN, Degrees


@dataclass(frozen=True, eq=False)
class Rules:
    """How steps are combined, and how much of a period and of an area must have data.

    Parameters
    ----------
    combine
        How steps become a period: one of COMBINES.
    min_steps
        Share of a period, by duration, that must have data.
    min_area
        Share of a region's area that must have data in a step.
    degrees
        Degrees above or below a threshold that are combined instead of the values themselves.
    most_missing
        Instead of `min_steps`: days of a period that may be missing, and days in a row.
    place
        Also tell the cell that holds each lowest or highest value.
    """

    combine: str
    min_steps: float = 1.0
    min_area: float = 0.5
    degrees: Degrees | None = None
    most_missing: tuple[float, float] | None = None
    place: bool = False


@dataclass(frozen=True, eq=False)
class StepWeights:
    """Which steps belong to which periods, and what each step weighs.

    Parameters
    ----------
    assignment
        Pairs of step and period.
    factor : (T,) float64
        What a value is multiplied by before it is totalled (step length of a rate).
    weight : (T,) float64
        Weight of a step in a mean.
    duration : (T,) float64
        Length of the steps, days.
    period_length : (P,) float64
        Length of the periods, days.
    step_start, period_start : (T,), (P,) float64
        Beginnings, in days since the calendar's 1970.
    """

    assignment: Assignment
    factor: np.ndarray
    weight: np.ndarray
    duration: np.ndarray
    period_length: np.ndarray
    step_start: np.ndarray = field(default_factory=lambda: np.zeros(0))
    period_start: np.ndarray = field(default_factory=lambda: np.zeros(0))

    def of_one_period(self, step: np.ndarray, share: np.ndarray) -> StepWeights:
        """The same where some steps, and shares of them (N,), are one period."""
        length = float((share * self.duration[step]).sum()) or 1.0
        start = self.step_start[step[:1]] if self.step_start.size else np.zeros(1)
        return replace(
            self,
            assignment=Assignment(step, np.zeros(step.size, np.int64), share, np.ones(1)),
            period_length=np.array([length]),
            period_start=start,
        )


@dataclass(eq=False)
class Gaps:
    """Where rows lack data in a run of periods, in days since the calendar's 1970.

    Parameters
    ----------
    first, last : (P, K) float64
        Beginning of the first step with data and end of the last; ∞ and -∞ where there is none.
    longest : (P, K) float64
        Longest time without data between them.
    """

    first: np.ndarray
    last: np.ndarray
    longest: np.ndarray

    def joined(self, later: Gaps, overlap: int) -> Gaps:
        """These periods and later ones, the last `overlap` being the later's first."""
        if not overlap:
            pairs = zip(astuple(self), astuple(later), strict=True)
            return Gaps(*(np.concatenate(pair) for pair in pairs))
        keep = slice(None, -overlap)
        between = [
            np.maximum(within, present)
            for within, present in (
                (self.longest[-overlap:], later.longest[:overlap]),
                (0.0, later.first[:overlap] - self.last[-overlap:]),
            )
        ]
        # Where one of the two has no data at all there is nothing between them yet.
        known = np.isfinite(self.last[-overlap:]) & np.isfinite(later.first[:overlap])
        longest = np.where(known, np.maximum(between[0], between[1]), between[0])
        first = np.minimum(self.first[-overlap:], later.first[:overlap])
        last = np.maximum(self.last[-overlap:], later.last[:overlap])
        return Gaps(
            np.concatenate([self.first[keep], first, later.first[overlap:]]),
            np.concatenate([self.last[keep], last, later.last[overlap:]]),
            np.concatenate([self.longest[keep], longest, later.longest[overlap:]]),
        )

    def whole(self, start: np.ndarray, end: np.ndarray) -> np.ndarray:
        """(P, K) longest time without data from the beginnings to the ends (P,) of the periods."""
        longest = np.maximum(self.longest, self.first - start[:, None])
        return np.asarray(np.maximum(longest, end[:, None] - self.last))


def find_gaps(
    missing: np.ndarray, start: np.ndarray, end: np.ndarray, period: np.ndarray, periods: int
) -> Gaps:
    """Where rows (T, K) lack data; `start`, `end` and `period` (T,) are those of the steps."""
    shape = (periods, missing.shape[1])
    first, last, longest = np.full(shape, np.inf), np.full(shape, -np.inf), np.zeros(shape)
    for t, p in enumerate(period.tolist()):
        present = ~missing[t]
        away = np.where(np.isfinite(last[p]), start[t] - last[p], 0.0)
        np.maximum(longest[p], away, out=longest[p], where=present)
        np.minimum(first[p], start[t], out=first[p], where=present)
        last[p, present] = end[t]
    return Gaps(first, last, longest)


@dataclass(eq=False)
class PeriodSums:
    """Rows combined over the steps of a run of periods.

    Parameters
    ----------
    value : (P, K) float64
        Sum, weighted sum, lowest or highest value.
    weight : (P, K) float64
        Weight of the steps in a weighted sum.
    covered : (P, K) float64
        Days that had data.
    gaps
        Where data is missing, if anybody asks.
    """

    value: np.ndarray
    weight: np.ndarray
    covered: np.ndarray
    gaps: Gaps | None = None

    def joined(self, later: PeriodSums, overlap: int, combine: str) -> PeriodSums:
        """These periods and later ones, the last `overlap` of them being the later's first."""
        if not overlap:
            return PeriodSums(
                np.concatenate([self.value, later.value]),
                np.concatenate([self.weight, later.weight]),
                np.concatenate([self.covered, later.covered]),
                self.gaps.joined(later.gaps, 0) if self.gaps and later.gaps else None,
            )
        add = {MIN: np.fmin, MAX: np.fmax}.get(combine, np.add)
        keep, shared = slice(None, -overlap), slice(-overlap, None)
        within, present = slice(None, overlap), slice(overlap, None)

        def join(a: np.ndarray, b: np.ndarray, how: np.ufunc) -> np.ndarray:
            return np.concatenate([a[keep], how(a[shared], b[within]), b[present]])

        return PeriodSums(
            join(self.value, later.value, add),
            join(self.weight, later.weight, np.add),
            join(self.covered, later.covered, np.add),
            self.gaps.joined(later.gaps, overlap) if self.gaps and later.gaps else None,
        )

    def split(self, count: int) -> tuple[PeriodSums, PeriodSums]:
        """The first `count` periods and the rest."""
        return tuple(  # type: ignore[return-value]
            PeriodSums(
                self.value[part],
                self.weight[part],
                self.covered[part],
                self.gaps
                and Gaps(self.gaps.first[part], self.gaps.last[part], self.gaps.longest[part]),
            )
            for part in (slice(None, count), slice(count, None))
        )

    def combined(self, rules: Rules, start: np.ndarray, length: np.ndarray) -> np.ndarray:
        """(P, K) values, NaN where too little of a period has data.

        Parameters
        ----------
        start, length : (P,) float64
            Of the periods, in days.
        """
        if self.gaps is not None and rules.most_missing is not None:
            most, in_a_row = rules.most_missing
            enough = length[:, None] - self.covered <= most + ENOUGH
            enough &= self.gaps.whole(start, start + length) <= in_a_row + ENOUGH
        else:
            enough = self.covered >= (rules.min_steps - ENOUGH) * length[:, None]
        enough &= self.covered > 0
        with np.errstate(invalid="ignore", divide="ignore"):
            value = self.value / self.weight if rules.combine == MEAN else self.value
        return np.where(enough, value, np.nan)


@dataclass(eq=False)
class Coverage:
    """How much of time and area had data, by period and region.

    Parameters
    ----------
    steps, area : (P, R) float64
        Steps that count for each region, and their days times the share of area that they had.
    counted_days : (P, R) float64
        Days of the steps that count.
    all_area, all_days : (P, R) and (P,) float64
        The same over all steps that there are.
    """

    steps: np.ndarray
    area: np.ndarray
    counted_days: np.ndarray
    all_area: np.ndarray
    all_days: np.ndarray

    def parts(self) -> tuple[np.ndarray, ...]:
        """The arrays in the order of the fields."""
        return self.steps, self.area, self.counted_days, self.all_area, self.all_days

    def joined(self, later: Coverage, overlap: int) -> Coverage:
        """These periods and later ones, the last `overlap` of them being the later's first."""

        def join(a: np.ndarray, b: np.ndarray) -> np.ndarray:
            if not overlap:
                return np.concatenate([a, b])
            return np.concatenate([a[:-overlap], a[-overlap:] + b[:overlap], b[overlap:]])

        return Coverage(*(join(a, b) for a, b in zip(self.parts(), later.parts(), strict=True)))

    @classmethod
    def none(cls, periods: int) -> Coverage:
        """That of no region at all."""
        empty = np.zeros((periods, 0))
        return cls(empty, empty, empty, empty, np.zeros(periods))

    def area_valid(self) -> np.ndarray:
        """(P, R) mean share of area over the counted steps, over all steps where none counts."""
        with np.errstate(invalid="ignore", divide="ignore"):
            counted = self.area / self.counted_days
            overall = self.all_area / self.all_days[:, None]
        area = np.where(self.counted_days > 0, counted, overall)
        return np.where(np.abs(area - 1) < 1e-12, 1.0, area)


@dataclass(frozen=True, eq=False)
class PeriodState:
    """Sums over a run of steps for the periods `first` and following.

    Parameters
    ----------
    first
        Number of the first period.
    begin, end
        The steps, the last excluded.
    sums
        Of region measures (P, R × M) or of cells (P, C).
    coverage
        How much of time and area had data.
    """

    first: int
    begin: int
    end: int
    sums: PeriodSums
    coverage: Coverage

    @property
    def stop(self) -> int:
        """Number of the period after the last."""
        return self.first + len(self.coverage.all_days)

    def split(self, stop: int) -> tuple[PeriodState, PeriodState]:
        """The periods before `stop`, and those from it on."""
        count = stop - self.first
        before, after = self.sums.split(count)
        low, high = slice(None, count), slice(count, None)
        arrays = self.coverage.parts()
        return (
            replace(self, sums=before, coverage=Coverage(*(array[low] for array in arrays))),
            replace(
                self, first=stop, sums=after, coverage=Coverage(*(array[high] for array in arrays))
            ),
        )


@dataclass(frozen=True, eq=False)
class PeriodValues:
    """Values of the periods `first` and following.

    Parameters
    ----------
    value : (P, R, M) float64
        NaN where there is no value.
    area_valid, steps : (P, R) float64
        Share of the area behind the value, and steps that count.
    place : (P, R, M) int64 or None
        Number of the used cell that holds the value, -1 for none; None where nobody asks.
    """

    first: int
    value: np.ndarray
    area_valid: np.ndarray
    steps: np.ndarray
    place: np.ndarray | None = None


@dataclass(frozen=True, eq=False)
class CellValues:
    """Values (P, C) float64 of the cells in the periods `first` and following; NaN for none."""

    first: int
    value: np.ndarray
