"""The commands that give a table, by name."""

from __future__ import annotations

from importlib import import_module

from bavlo.plan.result import TableResult
from bavlo.request.reporter import Reporter
from bavlo.request.request import Request

# Module and function of each.
TABLE_COMMANDS = {
    "series": ("series", "series"),
    "normals": ("normals", "normals"),
    "anomalies": ("anomalies", "anomalies"),
    "extremes": ("extremes", "extremes"),
    "trends": ("trends", "trends_of_regions"),
    "compare": ("compare", "compare"),
}


def table_of(request: Request, report: Reporter) -> TableResult:
    """The table that a request asks for."""
    module, function = TABLE_COMMANDS[request.command]
    found: TableResult = getattr(import_module(f"bavlo.commands.{module}"), function)(
        request, report
    )
    return found
