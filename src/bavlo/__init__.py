"""Bavlo turns gridded climate data into per-region numbers that an analyst can defend.

`import bavlo` offers every command as a function; see `bavlo.api`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from bavlo.api import (
        anomalies,
        chart,
        compare,
        describe,
        extremes,
        grid,
        map,  # as the command
        normals,
        series,
        trace,
        trends,
    )
    from bavlo.calls import report, run
    from bavlo.errors import BavloError, BavloWarning
    from bavlo.held import Array
    from bavlo.interface import Grid, Table, Trace

__all__ = [
    "Array",
    "BavloError",
    "BavloWarning",
    "Grid",
    "Table",
    "Trace",
    "__version__",
    "anomalies",
    "chart",
    "compare",
    "describe",
    "extremes",
    "grid",
    "map",
    "normals",
    "report",
    "run",
    "series",
    "trace",
    "trends",
]
__version__ = "0.1.0"


def __getattr__(name: str) -> Any:
    """The functions, loaded when they are first used: `import bavlo` takes next to no time."""
    if name not in __all__:
        raise AttributeError(f"module 'bavlo' has no attribute {name!r}")
    from importlib import import_module

    places = {"BavloError": "errors", "BavloWarning": "errors", "Array": "held"}
    places |= {"run": "calls", "report": "calls"}
    place = places.get(name, "interface" if name[0].isupper() else "api")
    return getattr(import_module(f"bavlo.{place}"), name)


def __dir__() -> list[str]:
    return sorted(__all__)
