"""Every index against a slow, plain version written from its published definition."""

import numpy as np
import pytest

from bavlo.core.conditions.counting import period_steps
from bavlo.core.conditions.indices import (
    INDICES,
    Record,
    bootstrapped_variables,
    find_index,
    index_values,
    percents_of,
)
from bavlo.core.stats.calendar_percentiles import calendar_days
from bavlo.core.stats.normals import Base
from bavlo.core.time.assignment import assign_steps
from bavlo.core.time.axis import DAY, to_dates, to_instant
from bavlo.core.time.periods import parse_every, periods_between
from bavlo.core.time.steps import time_axis

BASE = Base(1991, 1996)
YEARS = (1991, 1998)


def make(seed, year_start=1, gaps=0.004):
    """Seven years with ties at thresholds, a dry year, spells over the year's end and gaps."""
    rng = np.random.default_rng(seed)
    start = to_instant("standard", YEARS[0], year_start)
    steps = (to_instant("standard", YEARS[1], year_start) - start) // DAY
    time = time_axis(start + DAY * np.arange(steps), None, "standard")
    season = 12 * np.sin(np.arange(steps) / 365.25 * 2 * np.pi + rng.uniform(0, 6))
    slow = np.convolve(rng.normal(0, 9, steps + 8), np.ones(9) / 3, "valid")
    tmax = np.round(16 + season + slow)
    tmin = np.round(tmax - rng.gamma(3, 3, steps))
    rain = np.round(np.where(rng.random(steps) < 0.4, rng.gamma(0.8, 12, steps), 0))
    dates = to_dates(time.start, "standard")
    year = np.array([d.year for d in dates])
    rain[year == 1993] = 0
    rain[(np.arange(steps) > 340) & (np.arange(steps) < 380)] = 0
    tmax[(np.arange(steps) > 1090) & (np.arange(steps) < 1105)] += 25
    for values in (rain, tmax, tmin):
        values[rng.random(steps) < gaps] = np.nan
    tmax[700:720] = np.nan  # more than a year or a month may lack
    return time, dates, {"rain": rain, "tmax": tmax, "tmin": tmin}


def record_of(time, values, every, year_start, bootstrap):
    first, last = int(time.start[0]), int(time.end[-1])
    places = []
    for name in (every, "month"):
        axis = periods_between(parse_every(name, year_start), "standard", first, last)
        folded = assign_steps(time, axis, may_share=True)
        places.append(period_steps(time, folded, cut=False, first=0, last=len(time)))
    columns = {name: v[:, None] for name, v in values.items()}
    return Record(
        **columns,
        period_steps=places[0],
        months=places[1],
        days=calendar_days(time),
        base=BASE,
        percents=percents_of(INDICES.values()),
        bootstrapped=bootstrapped_variables(INDICES.values()) if bootstrap else (),
    ), axis_of(time, every, year_start)


def axis_of(time, every, year_start):
    return periods_between(
        parse_every(every, year_start), "standard", int(time.start[0]), int(time.end[-1])
    )


class Plain:
    """Day-by-day versions of the definitions; `days` are the steps of one period."""

    def __init__(self, dates, values, bootstrap):
        self.dates, self.bootstrap = dates, bootstrap
        self.rr, self.tx, self.tn = values["rain"], values["tmax"], values["tmin"]
        plain = [d for d in dates if d.year == 1991 or d.year == 1994]
        self.plain = sorted({(d.month, d.day) for d in plain} - {(2, 29)})
        self.by_date = {(d.year, d.month, d.day): n for n, d in enumerate(dates)}
        self.cache = {}

    def sample(self, values, month, day, years):
        at = self.plain.index((month, day))
        window = [self.plain[(at + s) % 365] for s in range(-2, 3)]
        found = [
            values[self.by_date[y, m, d]]
            for y in years
            for m, d in window
            if (y, m, d) in self.by_date
        ]
        found = [v for v in found if v == v]
        if len(found) < 0.8 * 5 * len(years):
            return np.nan
        return found

    def limit(self, values, percent, date, years):
        key = id(values), percent, date.month, date.day, tuple(years)
        if key not in self.cache:
            if (date.month, date.day) == (2, 29):
                sides = [self.sample(values, *md, years) for md in ((2, 28), (3, 1))]
                limits = [np.percentile(s, percent, method="median_unbiased") for s in sides]
                self.cache[key] = sum(limits) / 2
            else:
                sample = self.sample(values, date.month, date.day, years)
                self.cache[key] = (
                    np.nan
                    if sample is np.nan
                    else np.percentile(sample, percent, method="median_unbiased")
                )
        return self.cache[key]

    def beyond(self, days, values, percent):
        base = list(range(BASE.first, BASE.last + 1))
        shares = []
        for n in days:
            date, value = self.dates[n], values[n]
            if value != value:
                continue
            years = [base]
            if self.bootstrap and date.year in base:
                rest = [y for y in base if y != date.year]
                years = [[*rest, other] for other in rest]
            limits = [self.limit(values, percent, date, y) for y in years]
            limits = [t for t in limits if t == t]  # those of whom there is enough to tell
            if limits:
                shares.append(np.mean([value > t if percent > 50 else value < t for t in limits]))
        return 100 * np.mean(shares)

    def runs(self, met):
        found, run = [], []
        for n, one in enumerate(met):
            if one:
                run.append(n)
            elif run:
                found.append(run)
                run = []
        return found + ([run] if run else [])

    def longest(self, days, met):
        """Spells of the year, one that still runs at its end as long as it is by then."""
        last = max(days)
        up_to = ([n for n in r if n <= last] for r in self.runs(met) if set(r) & set(days))
        return max((len(r) for r in up_to), default=0)

    def spell_days(self, days, values, percent):
        base = list(range(BASE.first, BASE.last + 1))
        limits = [self.limit(values, percent, d, base) for d in self.dates]
        met = values > limits if percent > 50 else values < limits
        return sum(n in days for r in self.runs(met) if len(r) >= 6 for n in r)

    def season(self, days):
        mean = (self.tx + self.tn) / 2
        days = list(days)
        begin = self.dates[days[0]]
        middle = (begin.month + 5) % 12 + 1
        half = next(i for i, n in enumerate(days) if self.dates[n].month == middle)
        first = next(
            (i for i in range(len(days) - 5) if all(mean[n] > 5 for n in days[i : i + 6])), None
        )
        if first is None:
            return 0
        last = next(
            (i for i in range(half, len(days) - 5) if all(mean[n] < 5 for n in days[i : i + 6])),
            len(days),
        )
        return max(last - first, 0)

    def wet(self, days):
        return [self.rr[n] for n in days if self.rr[n] >= 1]

    def very_wet(self, days, percent):
        base = [
            v
            for v, d in zip(self.rr, self.dates, strict=True)
            if BASE.first <= d.year <= BASE.last and v >= 1
        ]
        limit = np.percentile(base, percent, method="median_unbiased")
        return sum(v for v in self.wet(days) if v > limit)

    def five_days(self, days):
        sums = [self.rr[n - 4 : n + 1].sum() for n in days if n >= 4]
        return np.nanmax([s for s in sums if s == s])

    def value(self, name, days):
        known = {
            "FD": lambda: sum(self.tn[n] < 0 for n in days),
            "SU": lambda: sum(self.tx[n] > 25 for n in days),
            "ID": lambda: sum(self.tx[n] < 0 for n in days),
            "TR": lambda: sum(self.tn[n] > 20 for n in days),
            "GSL": lambda: self.season(days),
            "TXx": lambda: np.nanmax(self.tx[days]),
            "TNx": lambda: np.nanmax(self.tn[days]),
            "TXn": lambda: np.nanmin(self.tx[days]),
            "TNn": lambda: np.nanmin(self.tn[days]),
            "TN10p": lambda: self.beyond(days, self.tn, 10),
            "TX10p": lambda: self.beyond(days, self.tx, 10),
            "TN90p": lambda: self.beyond(days, self.tn, 90),
            "TX90p": lambda: self.beyond(days, self.tx, 90),
            "WSDI": lambda: self.spell_days(days, self.tx, 90),
            "CSDI": lambda: self.spell_days(days, self.tn, 10),
            "DTR": lambda: np.nanmean((self.tx - self.tn)[days]),
            "Rx1day": lambda: np.nanmax(self.rr[days]),
            "Rx5day": lambda: self.five_days(days),
            "SDII": lambda: np.mean(self.wet(days)) if self.wet(days) else np.nan,
            "R10mm": lambda: sum(self.rr[n] >= 10 for n in days),
            "R20mm": lambda: sum(self.rr[n] >= 20 for n in days),
            "R15mm": lambda: sum(self.rr[n] >= 15 for n in days),
            "CDD": lambda: self.longest(days, self.rr < 1),
            "CWD": lambda: self.longest(days, self.rr >= 1),
            "R95p": lambda: self.very_wet(days, 95),
            "R99p": lambda: self.very_wet(days, 99),
            "PRCPTOT": lambda: sum(self.wet(days)),
        }
        return known[name]()

    def missing(self, days, needs):
        of = {"rain": self.rr, "tmax": self.tx, "tmin": self.tn}
        return sum(any(of[name][n] != of[name][n] for name in needs) for n in days)


NAMES = [n if n != "Rnnmm" else "R15mm" for n in INDICES]


@pytest.mark.parametrize("name", NAMES)
@pytest.mark.parametrize(
    ("seed", "year_start", "every"),
    [(1, 1, "year"), pytest.param(2, 7, "year", marks=pytest.mark.slow), (3, 1, "month")],
)
def test_an_index_is_what_its_definition_says(name, seed, year_start, every):
    index = find_index(name)
    if every not in index.periods:
        return
    time, dates, values = make(seed, year_start)
    record, axis = record_of(time, values, every, year_start, bootstrap=seed == 1)
    found = index_values(index, record, every, own_rule=True)[:, 0]
    plain = Plain(dates, values, bootstrap=seed == 1)
    told = 0
    for p in range(len(axis)):
        days = np.flatnonzero((time.start >= axis.start[p]) & (time.start < axis.end[p]))
        lost = plain.missing(days, index.needs)
        months = {(dates[n].year, dates[n].month) for n in days}
        in_months = max(
            plain.missing([n for n in days if (dates[n].year, dates[n].month) == m], index.needs)
            for m in months
        )
        if (every == "year" and lost > 15) or in_months > 3:
            assert np.isnan(found[p]), (p, lost)
            continue
        np.testing.assert_allclose(found[p], plain.value(name, days), rtol=1e-9, atol=1e-9)
        told += 1
    assert told > 3


def test_there_are_twenty_seven_and_each_says_what_it_is():
    assert len(INDICES) == 27
    assert all(index.definition and index.unit and index.needs for index in INDICES.values())
