"""NetCDF files that stay open between reads."""

from pathlib import Path

import netCDF4
import numpy as np
import pytest

from bavlo.grids.cells import whole
from bavlo.grids.open import open_grid
from bavlo.remembered import OPEN_FILES
from support import write_grid


@pytest.mark.parametrize("zarr_format", [2, 3])
def test_a_store_that_was_written_anew_is_read_anew(tmp_path, zarr_format):
    zarr = pytest.importorskip("zarr")

    def write(value, steps, scale):
        group = zarr.open_group(tmp_path / "a.zarr", mode="w", zarr_format=zarr_format)
        for names, values, more in (
            (["time"], np.arange(float(steps)), {"units": "days since 2001-01-01"}),
            (["lat"], np.arange(3) + 0.5, {"units": "degrees_north"}),
            (["lon"], np.arange(4) + 0.5, {"units": "degrees_east"}),
            (["time", "lat", "lon"], np.full((steps, 3, 4), value), {"scale_factor": scale}),
        ):
            named = {"dimension_names": names} if zarr_format == 3 else {}
            name = names[0] if len(names) == 1 else "rain"
            array = group.create_array(name, data=values, **named)
            array.attrs.update({"_ARRAY_DIMENSIONS": names, **more})

    def values():
        source = open_grid([tmp_path / "a.zarr"])
        return source.read(0, len(source.time), whole((3, 4)))[:, 0].tolist()

    for value, steps, scale, wanted in (
        (5, 2, 1.0, [5, 5]),
        (5, 2, 2.0, [10, 10]),
        (7, 3, 1.0, [7] * 3),
    ):
        write(value, steps, scale)
        assert values() == wanted


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
