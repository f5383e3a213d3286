"""The grids of a request: opened, named, and made from one another."""

from __future__ import annotations

from dataclasses import replace
from itertools import product
from typing import Any, cast

from bavlo.core.stats.measures import SHARES
from bavlo.core.time.axis import PERIOD, iso_day
from bavlo.core.values.kinds import (
    ACCUMULATED,
    AMOUNT,
    NOT_TOLD,
    STATE,
    Quantity,
    Variable,
    as_asked,
    quantity,
    suggested_unit,
)
from bavlo.core.values.units import is_temperature
from bavlo.errors import InputError, RequestError
from bavlo.grids.digest import take_ahead
from bavlo.grids.levels import LevelsLeftOpen
from bavlo.grids.open import open_grid
from bavlo.grids.source import GridSource, is_climatology, where
from bavlo.jobs.accumulations import accumulated_text, differenced
from bavlo.jobs.missing import holds_codes, inspected
from bavlo.jobs.reading import check_room_for_chunks
from bavlo.jobs.rules import check_of_use
from bavlo.jobs.wording import counted
from bavlo.remembered import INFLATED
from bavlo.request.reporter import Reporter
from bavlo.request.request import GridArgument, Request, combined_alone, for_grid

ALL = "all"  # values of a further dimension


def open_grids(request: Request, report: Reporter) -> dict[str, GridSource]:
    """All grids of a request by name, those of `make` after those that they are made from."""
    found: dict[str, GridSource] = {}
    for argument in request.grids.arguments:
        own: dict[str, Any] = {
            field: value
            for field, name, value in request.grids.by_grid
            if name == argument.name and hasattr(request.grids.reading, field)
        }
        reading = replace(request.grids.reading, called=argument.name, **own)
        opened = open_grid(argument.paths, reading)
        check_room_for_chunks(opened, request.run)
        source = settled(opened, report, request.run.jobs)
        INFLATED.clear()  # what a sample was taken of
        name = argument.name or source.variable.name
        if name in found:
            raise RequestError("", f"two grids are called {name}", "name them as NAME=PATH")
        if is_climatology(source):
            raise InputError(
                where(source),
                "holds a climatology, not a time series: its time has climatology bounds, or is "
                "the cycle of one year in no real year",
                "give the grids that it was made from",
            )
        found[name] = source if argument.is_source else named(source, name)
        for text in source.notes:
            report.note(text)
    check_of_use(request, found)
    if request.grids.make:
        from bavlo.jobs.made import with_made

        return with_made(found, request, report)
    alone = [name for field, name, _ in request.grids.by_grid if field == "combine"]
    if alone:
        raise combined_alone(alone[0])
    return found


def named(source: GridSource, name: str) -> GridSource:
    """A grid by the name that was given to it, of the kind that its own name tells."""
    if name == source.variable.name:
        return source
    what = quantity(source.variable, where(source))
    variable = replace(source.variable, name=name, kind=what.kind, kind_evidence=what.why)
    renamed: GridSource = replace(cast(Any, source), variable=variable)
    return renamed


def settled(source: GridSource, report: Reporter, jobs: int = 1) -> GridSource:
    """A grid with what its values tell: marks of no data, and amounts that were accumulated.

    Raises
    ------
    InputError
        Where they leave open whether a number is a value, or whether values are accumulated.
    """
    if source.variable.kind == ACCUMULATED:
        amount = Quantity(AMOUNT, source.variable.unit, source.variable.unit, "")
        return differenced(inspected(source, amount, report, jobs), report, jobs)
    what = quantity(source.variable, where(source))
    source = named_codes(inspected(source, what, report, jobs), what)
    question = accumulated_text(source, what, jobs)
    if question is not None:
        raise InputError(where(source), *question)
    return source


def named_codes(source: GridSource, what: Quantity) -> GridSource:
    """A grid of a few whole numbers without unit, whose kind nothing tells; any other as it is."""
    if source.tiles and holds_codes(source, what):
        evidence = "a few whole numbers without unit"
        variable = replace(source.variable, kind=NOT_TOLD, kind_evidence=evidence)
        source = replace(cast(Any, source), variable=variable)
    return source


def each_grid(request: Request) -> tuple[Request, ...]:
    """The same about each of its named grids alone, or about each that is made of them."""
    if request.grids.make:
        return tuple(_for_made(request, n) for n in range(len(request.grids.make)))
    alone = [request]
    if len(request.grids.arguments) > 1:
        alone = [for_one(request, argument) for argument in request.grids.arguments]
    return tuple(each for one in alone for each in _each_level(one))


def _for_made(request: Request, number: int) -> Request:
    """The same about what one formula makes, with what is said of that alone."""
    own = for_grid(request, request.grids.make[number].name)
    return replace(own, grids=replace(request.grids, make=request.grids.make[: number + 1]))


def _each_level(request: Request) -> tuple[Request, ...]:
    """The same about each value of the further dimensions of which `level` wants all."""
    reading = request.grids.reading
    wanted = [text for text in reading.level if text.rpartition("=")[2] == ALL]
    if not wanted or not request.grids.arguments:
        return (request,)
    fixed = tuple(text for text in reading.level if text not in wanted)
    argument = request.grids.arguments[0]
    try:
        open_grid(argument.paths, replace(reading, level=fixed, called=argument.name))
        chosen: list[tuple[str, ...]] = [()]
    except LevelsLeftOpen as left_open:
        names = [text.rpartition("=")[0] for text in wanted]
        values = left_open.values
        named = [name for name in values if "" in names or name in names]
        texts = [
            [
                f"{name}={value if isinstance(value, str) else repr(float(value))}"
                for value in values[name]
            ]
            for name in named
        ]
        chosen = list(product(*texts))
    out = []
    for levels in chosen:
        own = replace(reading, level=(*fixed, *levels))
        out.append(replace(request, grids=replace(request.grids, reading=own)))
    return tuple(out)


def for_one(request: Request, argument: GridArgument) -> Request:
    """The same about one of its named grids alone, with what is said of that."""
    own = for_grid(request, argument.name or "")
    return replace(own, grids=replace(own.grids, arguments=(argument,)))


def open_one(request: Request, report: Reporter) -> GridSource:
    """The one grid that a request is about: that of the last `make`, or the only one given."""
    found = open_grids(request, report)
    if request.grids.make:
        return found[request.grids.make[-1].name]
    if len(found) > 1:
        raise RequestError(
            "",
            f"several grids were given: {', '.join(found)}",
            "give one grid, or make one of them with ‹make›",
        )
    return next(iter(found.values()))


def report_grid(source: GridSource, request: Request, report: Reporter) -> None:
    """Say what a grid is, and what is doubtful about it."""
    what = quantity(source.variable, where(source))
    if not source.variable.unit and what.kind == STATE and request.measuring.measure != (SHARES,):
        report.warn(f"{where(source)}: {no_unit_text(source.variable)}")
    if source.time is None:
        report.note(f"{source.variable.name}: no time axis; {what.kind} ({what.why})")
        return
    time = source.time
    report.note(
        f"{source.variable.name}: {len(time)} steps of one {time.step_name}, "
        f"{iso_day(int(time.start[0]), time.calendar)}.."
        f"{iso_day(int(time.end[-1]) - 1, time.calendar)} ({time.how}); "
        f"{what.kind} ({what.why})"
    )
    gaps = time.gaps()
    if gaps.size and time.length != PERIOD:  # seasons are no steps that follow one another
        first = int(gaps[0])
        report.warn(
            f"{where(source)}: {counted(gaps.size, 'gap')} in time, the first between "
            f"{iso_day(int(time.end[first - 1]) - 1, time.calendar)} and "
            f"{iso_day(int(time.start[first]), time.calendar)}"
        )


def no_unit_text(variable: Variable) -> str:
    """What to say of a variable without unit: nothing is guessed."""
    text = f"{variable.name} has no unit and is taken as a state"
    suggested = suggested_unit(variable)
    if suggested:
        text += f"; its name suggests {suggested}: say so with ‹input_unit›"
    return text


def open_source(request: Request, report: Reporter) -> tuple[GridSource, Quantity]:
    """The one grid of a request, and what kind of number it holds."""
    source = open_one(request, report)
    what = quantity(source.variable, where(source))
    asked = request.time.combine
    what = as_asked(what, asked.how)
    if asked.degree_days is not None:
        if what.kind != STATE or not is_temperature(what.unit):
            raise RequestError(
                "combine", f"degree days are of temperatures, not {what.unit or 'no unit'}"
            )
        what = replace(what, total_unit=asked.degree_days.total_unit)
    report_grid(source, request, report)
    take_ahead(source.files)
    return source, what
