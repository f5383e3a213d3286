"""Series of grids without time: read and added up band by band, some whole rows after the other.

Nothing is kept of a cell, so that memory goes with the rows of a band and the outlines of the
regions.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from bavlo.core.reduce.protocol import ENOUGH, Block
from bavlo.core.reduce.series import ValueRange
from bavlo.core.space.projection import edges_on_grid
from bavlo.core.space.regions import Regions
from bavlo.core.space.row_areas import RowAreas
from bavlo.core.space.shared_areas import (
    CELLS_LOOKED_AT,
    MOST_SCALE_CHANGE,
    scale_change,
    span_overlay,
)
from bavlo.core.space.spans import Spans
from bavlo.core.space.zones import Zones
from bavlo.core.stats.band_ranks import RankIndex, RankTargets, edges_of
from bavlo.core.stats.bands import ADDED_UP, BandIndex, SumsSample
from bavlo.core.stats.measures import Measure
from bavlo.core.values.kinds import RATE, Quantity
from bavlo.engine import choices
from bavlo.engine.executor import reduced
from bavlo.engine.protocol import Needs, Resources
from bavlo.engine.segments import Segment
from bavlo.grids.cells import WholeRows
from bavlo.grids.source import GridSource, files_of
from bavlo.grids.urls import url_of
from bavlo.jobs.missing import squares
from bavlo.regions.cache import cached
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request


def adds_up_by_bands(
    request: Request, source: GridSource, what: Quantity, measures: Sequence[Measure]
) -> bool:
    """Whether a series is added up band by band, which the grid and the request decide."""
    layout = source.layout
    # By URL whole rows travel only where a list of cells would be too large.
    large = choices.is_read_in_bands(layout.shape[0] * layout.shape[1])
    return (
        source.time is None
        and (large or url_of(source.files[0].path) is None)
        and source.reads_rows
        and not layout.has_corners
        and what.kind != RATE
        and not request.grids.make
        and request.measuring.weight is None
        and not request.measuring.place
        and request.time.combine.degree_days is None
        and all(measure.made_of in ADDED_UP for measure in measures)
    )


def spans_of(regions: Regions | Zones, source: GridSource, jobs: int) -> Spans | None:
    """The overlay as spans of cells; None where only single cells tell their areas."""
    layout = source.layout
    if not isinstance(regions, Regions) or regions.are_points:
        return None
    if not layout.is_lonlat:
        last = layout.shape[0] * layout.shape[1] - 1
        some = np.linspace(0, last, CELLS_LOOKED_AT).astype(np.int64)
        if not RowAreas(layout).is_exact or scale_change(layout, some) > MOST_SCALE_CHANGE:
            return None
    return cached(
        regions, layout, lambda: span_overlay(edges_on_grid(regions, layout), layout, jobs), Spans
    )


@dataclass(frozen=True, eq=False)
class RowReader:
    """Reads bands of a grid without time; a block's steps are its rows."""

    source: GridSource

    def read(self, block: Block) -> np.ndarray:
        """(n, nx) float64 values of some rows, NaN where there is no data."""
        shape = self.source.layout.shape
        cells = WholeRows(shape, slice(block.first, block.last))
        return self.source.read(0, 1, cells).reshape(-1, shape[1])

    def files(self, first: int, last: int) -> str:
        """The files that hold the grid, for messages."""
        return files_of(self.source, 0, 1)


@dataclass(frozen=True, eq=False)
class BandReducer:
    """Sums of all bands, from which measures are computed once all rows are in."""

    index: BandIndex | RankIndex

    def update(self, block: Block, values: np.ndarray) -> list[Any]:
        """The sums of one band."""
        return [self.index.sums(block.first, values)]

    def merge(self, earlier: Any, later: Any) -> Any:
        """The sums of both."""
        return earlier + later

    def settle(self, state: Any) -> tuple[list[Any], Any]:
        """What the sums of the whole grid come to, once it is whole."""
        first, last = self.index.overlay.rows
        return (self.close(state), None) if state.rows == last - first else ([], state)

    def close(self, state: Any) -> list[Any]:
        """What the sums of all rows come to."""
        return [self.index.sample(state)]


def sums_sample(
    run: Resources, source: GridSource, index: BandIndex, report: Reporter
) -> tuple[SumsSample, ValueRange]:
    """Read a grid band by band, and add up what measures are made of; and the range of values.

    Where percentiles are asked for the grid is read a second time.
    """
    if index.percents:
        looked_at = [source.read(0, 1, cells).ravel() for cells in squares(source)]
        edges = edges_of(np.concatenate(looked_at), index.overlay.regions)
        index = replace(index, edges=edges)
    sample: SumsSample = _of_all_bands(run, source, index, report)
    if sample.sums.bins is not None:
        targets = RankTargets.of(sample.sums.bins, index.edges, index.percents)
        report.stage("reading again for percentiles")
        ranks = RankIndex(index.overlay, index.areas, index.edges, targets)
        sample = replace(sample, percentiles=_of_all_bands(run, source, ranks, report))
    lowest = np.fmin.reduce(sample.sums.low, initial=np.inf)
    highest = np.fmax.reduce(sample.sums.high, initial=-np.inf)
    return sample, ValueRange(float(lowest), float(highest))


def _of_all_bands(
    run: Resources, source: GridSource, index: BandIndex | RankIndex, report: Reporter
) -> Any:
    """What the sums of all bands come to."""
    blocks = choices.bands_of(*index.overlay.rows, source.layout.shape[1])
    kept = index.overlay.nbytes + index.nbytes
    needs = band_needs(source, index.overlay.rows, kept)
    segments = [
        Segment((block,), None if block is blocks[0] else 0, None if block is blocks[-1] else 0)
        for block in blocks
    ]
    reader, reducer = RowReader(source), BandReducer(index)
    found: list[Any] = []
    for settled in reduced(run, needs, report, reader, reducer, segments):
        found += settled
    (sample,) = found
    return sample


def band_needs(source: GridSource, rows: tuple[int, int], overlay: float) -> Needs:
    """What bands take in memory, and what is kept beside them.

    Parameters
    ----------
    rows
        The first and the last, excluded, that are read.
    overlay
        Bytes of the overlay.
    """
    tiled = len(source.tiles) > 1
    return choices.needs_of_bands(rows, source.layout.shape[1], overlay, tiled=tiled)


def measured(
    sample: SumsSample, measures: Sequence[Measure], least: Sequence[float]
) -> tuple[np.ndarray, np.ndarray]:
    """Values of regions, and which of them have enough area.

    Parameters
    ----------
    least
        Share of the area that each measure needs.

    Returns
    -------
    value : (R, M) float64
    enough : (R, M) bool
    """
    area = sample.area_valid[0]
    enough = [(area >= share - ENOUGH) & (area > 0) for share in least]
    values = [
        np.where(own, measure.compute(sample)[0], np.nan)
        for measure, own in zip(measures, enough, strict=True)
    ]
    return np.stack(values, axis=-1), np.stack(enough, axis=-1)
