"""Bavlo turns gridded climate data into per-region numbers that an analyst can defend.

`import bavlo` offers every command as a function; see `bavlo.interface`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from bavlo.arrays import Array
    from bavlo.errors import BavloError, BavloWarning
    from bavlo.interface import (
        Grid,
        Table,
        anomalies,
        chart,
        compare,
        describe,
        extremes,
        grid,
        map,  # as the command
        normals,
        series,
        trends,
    )

__all__ = [
    "Array",
    "BavloError",
    "BavloWarning",
    "Grid",
    "Table",
    "__version__",
    "anomalies",
    "chart",
    "compare",
    "describe",
    "extremes",
    "grid",
    "map",
    "normals",
    "series",
    "trends",
]
__version__ = "0.1.0"


def __getattr__(name: str) -> Any:
    """The functions, loaded when they are first used: `import bavlo` takes next to no time."""
    if name not in __all__:
        raise AttributeError(f"module 'bavlo' has no attribute {name!r}")
    from importlib import import_module

    elsewhere = {"BavloError": "bavlo.errors", "Array": "bavlo.arrays"}
    return getattr(import_module(elsewhere.get(name, "bavlo.interface")), name)


def __dir__() -> list[str]:
    return sorted(__all__)
