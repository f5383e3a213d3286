"""The features of one layer of a vector file, as they are in it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True, eq=False)
class Features:
    """The features of one layer, as they are in the file.

    Parameters
    ----------
    geometry : (N,) object array
        Shapely geometries; None where the file has none.
    fields
        Attribute columns by name.
    crs
        Reference system, or empty where the file does not say.
    driver
        What kind of file it is.
    layer
        Name of the layer.
    notes
        What was mended in reading.
    """

    geometry: np.ndarray
    fields: dict[str, np.ndarray]
    crs: str
    driver: str
    layer: str
    notes: tuple[str, ...] = ()
