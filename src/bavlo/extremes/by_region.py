"""Conditions and indices on the series of regions, which are made first."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from bavlo.core.reduce.protocol import ENOUGH, Block, EachAlone
from bavlo.core.stats.cell_sample import WHOLE_WITHIN, CellSample
from bavlo.core.stats.measures import Measure, parse_measure
from bavlo.engine import choices
from bavlo.engine.executor import reduced
from bavlo.errors import RequestError
from bavlo.extremes.arrays import ExtremesArrays
from bavlo.extremes.plan import ExtremesPlan
from bavlo.extremes.records import occurrence_of_record, record_values
from bavlo.extremes.settled import KeptCounts, needed
from bavlo.extremes.values import ConditionReader, plan_condition_blocks
from bavlo.request.reporter import Reporter


@dataclass(frozen=True, eq=False)
class RegionSteps:
    """Values and valid shares of area (T, R) of each variable, by name, of the block's steps."""

    block: Block
    values: dict[str, np.ndarray]
    area_valid: dict[str, np.ndarray]


@dataclass(frozen=True, eq=False)
class RegionStepsReducer(EachAlone[RegionSteps]):
    """Measures every step of every region; nothing goes on from one to the next."""

    plan: ExtremesPlan
    measure: str

    @property
    def of_whole(self) -> bool:
        """Whether values count only at steps with as much of the area as any step has."""
        return parse_measure(self.measure).of_whole and (
            self.plan.request.measuring.min_area is None
        )

    def update(self, block: Block, values: Mapping[str, np.ndarray]) -> list[list[RegionSteps]]:
        """Measure the values (T, C) of a block."""
        measure: Measure = parse_measure(self.measure)
        found, areas = {}, {}
        for name, cells in values.items():
            sample = CellSample(self.plan.index, cells)
            least = 0.0 if self.of_whole else self.plan.request.measuring.least_area
            enough = (sample.area_valid >= least - ENOUGH) & (sample.area_valid > 0)
            found[name] = np.where(enough, measure.compute(sample), np.nan)
            areas[name] = sample.area_valid
        return [[RegionSteps(block, found, areas)]]


def count_regions(
    plan: ExtremesPlan, arrays: ExtremesArrays, report: Reporter, kept: KeptCounts | None
) -> None:
    """Make the regions' series, and test those."""
    if len(plan.request.measuring.measure) > 1:
        raise RequestError("measure", "a region's series is of one measure", "choose one")
    series, area = _region_series(plan, arrays, report, kept)
    for n, (values, valid, _) in enumerate(record_values(plan, series)):
        arrays.put_regions(n, values, valid)
    steps = plan.period_steps
    for p, (begin, end) in enumerate(zip(steps.begin, steps.end, strict=True)):
        if end > begin:
            arrays.area_valid[:, p] = area[begin:end].mean(axis=0)[:, None]
    arrays.area_valid[np.abs(arrays.area_valid - 1) < 1e-12] = 1.0
    for bound, daily in zip(plan.bound, arrays.daily, strict=False):
        occurs = occurrence_of_record(plan, bound, series, ())
        own = series[bound.tests[0].variable.name]
        valid = np.broadcast_to(occurs.valid, occurs.occurs.shape)
        daily.put(0, np.where(valid, occurs.occurs, np.nan), own)


def _region_series(
    plan: ExtremesPlan, arrays: ExtremesArrays, report: Reporter, kept: KeptCounts | None
) -> tuple[dict[str, np.ndarray], np.ndarray]:
    """(T, R) values of each variable, by name, and the valid share of area of the first."""
    shape = plan.last - plan.first, len(plan.regions.regions)
    areas = {name: np.zeros(shape) for name in plan.aligned.sources}
    names = list(plan.aligned.sources)
    series = {name: np.full(shape, np.nan) for name in names}
    blocks = plan_condition_blocks(plan)
    held = arrays.nbytes + 2 * len(names) * areas[names[0]].nbytes * 4
    needs = choices.needs_of_blocks(blocks, plan.cells.size, "regions' steps", held, len(names))
    reducer = RegionStepsReducer(plan, plan.request.measuring.measure[0])
    segments = needed(kept, choices.segments_of([plan.assignment], blocks))
    run, reader = plan.request.run, ConditionReader(plan)
    for settled in reduced(run, needs, report, reader, reducer, segments):
        for each in settled:
            part = slice(each.block.first - plan.first, each.block.last - plan.first)
            for name, values in each.values.items():
                series[name][part] = values
                areas[name][part] = each.area_valid[name]
    if reducer.of_whole:  # a sum over cells is too low where some lack data
        for name, area in areas.items():
            series[name][area < area.max(axis=0) - WHOLE_WITHIN] = np.nan
    return series, areas[names[0]]
