"""Figures: one drawing for each kind of table."""

from __future__ import annotations

from typing import TYPE_CHECKING

from bavlo.core.errors import RequestError
from bavlo.core.table import Table

if TYPE_CHECKING:
    from matplotlib.figure import Figure


def draw(table: Table, title: str) -> Figure:
    """Draw a table in the way of its kind."""
    from bavlo.figures.climate import draw_anomalies, draw_normals
    from bavlo.figures.series import draw_series

    drawings = {"series": draw_series, "normals": draw_normals, "anomalies": draw_anomalies}
    if table.name not in drawings or "class" in table.axes:
        raise RequestError("--out", f"there is no chart of this table ({table.name})", "write CSV")
    return drawings[table.name](table, title)
