"""Shares and areas of class codes, a table of its own that `series` gives."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from bavlo.core.reduce.protocol import ENOUGH, Block, EachAlone
from bavlo.core.stats.bands import BandIndex
from bavlo.core.stats.cell_sample import CellSample, OverlayIndex
from bavlo.core.stats.classes import ClassAreas
from bavlo.core.time.assignment import Assignment
from bavlo.engine import choices
from bavlo.engine.executor import reduced
from bavlo.jobs.bands import sums_sample
from bavlo.jobs.provenance import about_series
from bavlo.jobs.reading import BlockReader
from bavlo.jobs.result import TableResult, shapes_of
from bavlo.jobs.series_table import series_summary
from bavlo.jobs.wording import outside_notes
from bavlo.request.reporter import Reporter
from bavlo.tables.schema import CLASSES
from bavlo.tables.table import Table

if TYPE_CHECKING:
    from bavlo.jobs.series import SeriesPlan


@dataclass(frozen=True, eq=False)
class PeriodShares:
    """Classes of one period, which has one step.

    Parameters
    ----------
    codes : (K,) float64
        Those that occur.
    values : (K, R, 2) float64
        Share of each region, and km²; NaN where too little has data.
    area_valid : (R,) float64
    """

    period: int
    codes: np.ndarray
    values: np.ndarray
    area_valid: np.ndarray


@dataclass(frozen=True, eq=False)
class ShareReducer(EachAlone[PeriodShares]):
    """Shares of each step; nothing goes on from one to the next.

    Parameters
    ----------
    index
        With the areas of cells on the ellipsoid.
    """

    index: OverlayIndex
    assignment: Assignment
    min_area: float

    def update(self, block: Block, cells: np.ndarray) -> list[list[PeriodShares]]:
        """Shares of each step of a block (T, C) that belongs to a period."""
        low, high = np.searchsorted(self.assignment.step, [block.first, block.last])
        pairs = zip(
            self.assignment.step[low:high].tolist(),
            self.assignment.period[low:high].tolist(),
            strict=True,
        )
        return [[self._of_step(period, cells[[step - block.first]]) for step, period in pairs]]

    def _of_step(self, period: int, cells: np.ndarray) -> PeriodShares:
        sample = CellSample(self.index, cells)
        classes, area_valid = ClassAreas.of(self.index, cells[0]), sample.area_valid[0]
        return shares_of(period, classes, sample.valid_weight[0], area_valid, self.min_area)


def shares_of(
    period: int, classes: ClassAreas, weight: np.ndarray, area_valid: np.ndarray, least: float
) -> PeriodShares:
    """Shares and areas of classes, of regions (R,) of which at least a share has data.

    Parameters
    ----------
    weight : (R,) float64
        Of all cells with data.
    """
    enough = ((area_valid >= least - ENOUGH) & (area_valid > 0))[:, None]
    with np.errstate(invalid="ignore", divide="ignore"):
        share = np.where(enough, classes.weight / weight[:, None], np.nan)
    area = np.where(np.isnan(share), np.nan, classes.square_km)
    values = np.stack([share, area], axis=-1).transpose(1, 0, 2)
    return PeriodShares(period, classes.codes, values, area_valid)


def class_shares(plan: SeriesPlan, report: Reporter) -> TableResult:
    """Share and area of every class code in every region, step by step."""
    request = plan.request
    if isinstance(plan.inputs.index, BandIndex):
        found = _by_bands(plan, plan.inputs.index, report)
    else:
        found = _by_steps(plan, report)
    table = _class_table(plan, found)
    summary = series_summary(plan, table)
    title = f"{plan.inputs.source.variable.title}: shares of classes"
    about = about_series(plan, table, summary, report)
    every = request.time.every_text
    shapes = shapes_of(plan.inputs.regions)
    return TableResult(table, title, summary, about, every=every, shapes=shapes)


def _by_bands(plan: SeriesPlan, index: BandIndex, report: Reporter) -> list[PeriodShares]:
    """The shares of a grid without time, added up band by band."""
    sample, _ = sums_sample(plan.request.run, plan.inputs.source, index, report)
    weight, area_valid = sample.valid_weight[0], sample.area_valid[0]
    return [shares_of(0, sample.classes, weight, area_valid, plan.request.measuring.least_area)]


def _by_steps(plan: SeriesPlan, report: Reporter) -> list[PeriodShares]:
    """The shares of each step, from its cells."""
    request, assignment = plan.request, plan.step_weights.assignment
    reducer = ShareReducer(plan.inputs.by_cells, assignment, request.measuring.least_area)
    blocks = choices.blocks_of([assignment], plan.inputs.cells.size)
    needs = choices.needs_of_blocks(blocks, plan.inputs.cells.size, "class shares")
    found: list[PeriodShares] = []
    reader, segments = (
        BlockReader(plan.inputs.source, plan.inputs.cells),
        choices.segments_of([assignment], blocks),
    )
    for settled in reduced(request.run, needs, report, reader, reducer, segments):
        found += settled
    return found


def _class_table(plan: SeriesPlan, found: list[PeriodShares]) -> Table:
    """Rows by region, period and class, with share and area as measures."""
    codes = np.unique(np.concatenate([np.zeros(0), *(each.codes for each in found)]))
    regions, periods = len(plan.inputs.labels), len(plan.chosen.axis)
    value = np.full((regions, periods, codes.size, 2), np.nan)
    area_valid = np.full((regions, periods), np.nan)
    steps = np.zeros((regions, periods))
    for each in found:
        known = np.zeros(regions, bool)
        if each.codes.size:
            known = ~np.isnan(each.values).all(axis=(0, 2))
        value[known, each.period] = 0.0  # a class that is not there has no area
        value[:, each.period, np.searchsorted(codes, each.codes)] = each.values.transpose(1, 0, 2)
        area_valid[:, each.period], steps[:, each.period] = each.area_valid, known
    notes = np.full(value.shape[:2], "", object)
    notes[steps == 0] = [f"area_valid {a:.2f}" for a in area_valid[steps == 0]]
    outside = outside_notes(plan.inputs.regions.regions, plan.inputs.index.overlay.entries)
    notes[outside != ""] = outside[outside != "", None]
    meanings = dict(plan.inputs.source.variable.flags)
    starts, ends = plan.chosen.axis.bounds_text()
    return CLASSES.table(
        {
            "region": plan.inputs.labels,
            "period": plan.chosen.axis.labels,
            "start": starts,
            "end": ends,
            "variable": plan.inputs.source.variable.name,
            "measure": ["share", "area"],
            "value": value,
            "unit": ["1", "km2"],
            "combine": "",
            "order": "region",
            "area_valid": area_valid,
            "steps": steps,
            "steps_expected": 1.0,
            "note": notes,
            "class": [meanings.get(int(code), str(int(code))) for code in codes],
            "weight": plan.inputs.weights.name,
            "level": plan.inputs.source.variable.level or None,
        }
    )
