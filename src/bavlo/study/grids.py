"""The grids of a request: opened, named, and made from one another."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from bavlo.core.errors import InputError, RequestError
from bavlo.core.timeaxis import iso_day
from bavlo.core.units import Variable, quantity, suggested_unit
from bavlo.formats.grids import open_grid
from bavlo.formats.grids.made import MadeGrid, align
from bavlo.formats.grids.source import GridSource, is_climatology, where
from bavlo.study.listener import Listener
from bavlo.study.request import SHARES, Request


def open_grids(request: Request, listener: Listener) -> dict[str, GridSource]:
    """All grids of a request by name, those of --make after those that they are made from."""
    found: dict[str, GridSource] = {}
    for argument in request.grids:
        own: dict[str, Any] = {
            field: value for field, name, value in request.by_grid if name == argument.name
        }
        source = open_grid(argument.paths, replace(request.reading, **own))
        name = argument.name or source.variable.name
        if name in found:
            raise RequestError("", f"two grids are called {name}", "name them as NAME=PATH")
        if is_climatology(source):
            raise InputError(
                where(source),
                "holds a climatology (its time has climatology bounds), not a time series",
                "give the grids that it was made from",
            )
        found[name] = source
        for text in source.notes:
            listener.note(text)
    for formula in request.make:
        if formula.name in found:
            raise RequestError("--make", f"there is a grid {formula.name} already", "rename it")
        missing = sorted(formula.term.names() - found.keys())
        if missing:
            raise RequestError(
                "--make",
                f"'{formula.text}': there is no grid {missing[0]}",
                f"there is: {', '.join(found)}; name one as {missing[0]}=PATH",
            )
        aligned = align({n: s for n, s in found.items() if n in formula.term.names()})
        if aligned.left_out:
            listener.warn(
                f"{formula.name}: {aligned.left_out} steps are left out, since not all of "
                f"{', '.join(aligned.sources)} have them"
            )
        made = MadeGrid(formula, aligned)
        listener.note(f"{formula.text}: in {made.variable.unit or 'no unit'}")
        found[formula.name] = made
    return found


def open_one(request: Request, listener: Listener) -> GridSource:
    """The one grid that a request is about: that of the last --make, or the only one given."""
    found = open_grids(request, listener)
    if request.make:
        return found[request.make[-1].name]
    if len(found) > 1:
        raise RequestError(
            "",
            f"several grids were given: {', '.join(found)}",
            "give one grid, or make one of them with --make",
        )
    return next(iter(found.values()))


def tell(source: GridSource, request: Request, listener: Listener) -> None:
    """Say what a grid is, and what is doubtful about it."""
    what = quantity(source.variable, where(source))
    if not source.variable.unit and what.kind == "state" and request.measures != (SHARES,):
        listener.warn(f"{where(source)}: {no_unit_text(source.variable)}")
    if source.time is None:
        listener.note(f"{source.variable.name}: no time axis; {what.kind} ({what.why})")
        return
    time = source.time
    listener.note(
        f"{source.variable.name}: {len(time)} steps of a {time.step_name}, "
        f"{iso_day(int(time.start[0]), time.calendar)}.."
        f"{iso_day(int(time.end[-1]) - 1, time.calendar)} ({time.how}); "
        f"{what.kind} ({what.why})"
    )
    gaps = time.gaps()
    if gaps.size:
        first = int(gaps[0])
        listener.warn(
            f"{where(source)}: {gaps.size} gap(s) in time, the first between "
            f"{iso_day(int(time.end[first - 1]) - 1, time.calendar)} and "
            f"{iso_day(int(time.start[first]), time.calendar)}"
        )


def no_unit_text(variable: Variable) -> str:
    """What to say of a variable without unit: nothing is guessed."""
    text = f"{variable.name} has no unit and is taken as a state"
    suggested = suggested_unit(variable)
    if suggested:
        text += f"; its name suggests {suggested}: say so with --input-unit"
    return text
