"""NetCDF files that stay open between reads."""

from pathlib import Path

import netCDF4
import numpy as np

from bavlo.grids.open import open_grid
from bavlo.grids.source import whole
from bavlo.remembered import OPEN_FILES
from support import write_grid


def test_a_file_that_was_written_to_or_moved_is_read_anew(tmp_path, monkeypatch):
    def value():
        source = open_grid([Path("a.nc")])
        return float(source.read(0, 1, whole(source.layout.shape))[0, 0])

    for name, number in (("one", 1.0), ("two", 2.0)):
        (tmp_path / name).mkdir()
        write_grid(tmp_path / name / "a.nc", np.full((2, 3, 4), number))
        monkeypatch.chdir(tmp_path / name)
        assert value() == number
    OPEN_FILES.clear()
    with netCDF4.Dataset("a.nc", "a") as data:
        data[next(n for n, v in data.variables.items() if v.ndim == 3)][:] = 3
    assert value() == 3
