"""Further weights of cells, such as people."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from bavlo.core.space.overlay import Overlay
from bavlo.core.space.zones import brought_onto
from bavlo.core.values.kinds import COUNT, quantity
from bavlo.engine import choices
from bavlo.errors import InputError, RequestError
from bavlo.grids.open import open_grid
from bavlo.grids.source import CellSelection, GridSource, WholeRows, where
from bavlo.plan.inspection import inspected
from bavlo.request.parse import expand
from bavlo.request.reporter import Reporter
from bavlo.request.request import MeasureRequest


@dataclass(frozen=True, eq=False)
class FurtherWeights:
    """What cells weigh besides their shared areas.

    Parameters
    ----------
    name
        Of the variable, as in tables; None where nothing was asked for.
    values : (N,) float64 or None
        Of each used cell.
    is_count
        Whether they are a number in each cell, which is shared out by covered fraction.
    source
        The grid that they are from.
    """

    name: str | None = None
    values: np.ndarray | None = None
    is_count: bool = False
    source: GridSource | None = None


def further_weights(
    request: MeasureRequest, source: GridSource, shared: Overlay, report: Reporter
) -> FurtherWeights:
    """The further weight of each used cell, none where none is asked for."""
    if request.weight is None and request.weight_kind is not None:
        raise RequestError("weight_kind", "changes nothing without ‹weight›", "leave it out")
    if request.weight is None:
        return FurtherWeights()
    weights = open_grid(expand(str(request.weight)))
    weights = inspected(weights, quantity(weights.variable, where(weights)), report)
    if weights.time is not None and len(weights.time) > 1:
        raise InputError(request.weight, "has several steps", "give a grid without time")
    kind = request.weight_kind or _weight_kind(weights)
    report.note(f"weights from {request.weight}: {weights.variable.name}, a {kind}")
    if weights.layout.same_cells(source.layout):
        extra = _values(weights, CellSelection(weights.layout.shape, shared.cells))
    else:
        width = weights.layout.shape[1]

        def rows(first: int, last: int) -> np.ndarray:
            cells = WholeRows(weights.layout.shape, slice(first, last))
            return _values(weights, cells).reshape(-1, width)

        bands = [(s.first, s.last) for s in choices.bands_of(0, *weights.layout.shape)]
        brought = brought_onto(rows, weights.layout, source.layout, bands, total=kind == "count")
        report.note(f"{request.weight}: brought onto the cells of the grid, keeping its total")
        extra = brought.ravel()[shared.cells]
    if not extra.any():
        raise InputError(request.weight, "is 0 or missing in all regions", "check the file")
    return FurtherWeights(weights.variable.name, extra, kind == "count", weights)


def _values(weights: GridSource, cells: CellSelection) -> np.ndarray:
    """(C,) float64 weights of cells; 0 where there is none."""
    read = weights.read(0, 1, cells)[0]
    values: np.ndarray = np.nan_to_num(read)
    if values.min(initial=0) < 0:
        raise InputError(where(weights), "has values below 0", "weights are 0 or more")
    return values


def _weight_kind(weights: GridSource) -> str:
    unit = weights.variable.unit
    if quantity(weights.variable, where(weights)).kind == COUNT:
        return "count"
    if unit in ("1", "%") or re.search(r"(km|m)\s*(\^|\*\*)?-?2|/\s*(km|m)2|per", unit):
        return "density"
    raise InputError(
        where(weights),
        f"does not tell whether it is a count per cell or a density (unit '{unit}')",
        "say so with ‹weight_kind›",
    )
