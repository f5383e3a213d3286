"""NetCDF files that stay open between reads."""

from pathlib import Path

import netCDF4
import numpy as np
import pytest

from bavlo.errors import InputError
from bavlo.grids.classic import check_whole, read_header
from bavlo.grids.netcdf import close_all
from bavlo.grids.open import open_grid
from bavlo.grids.source import whole
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
    close_all()
    with netCDF4.Dataset("a.nc", "a") as data:
        data[next(n for n, v in data.variables.items() if v.ndim == 3)][:] = 3
    assert value() == 3


@pytest.mark.parametrize(
    ("form", "version"),
    [("NETCDF3_CLASSIC", 1), ("NETCDF3_64BIT_OFFSET", 2), ("NETCDF3_64BIT_DATA", 5)],
)
def test_a_classic_header_of_more_dimensions_than_the_file_has_room_for_is_refused(
    tmp_path, form, version
):
    path = tmp_path / "rain.nc"
    with netCDF4.Dataset(path, "w", format=form) as data:
        data.createDimension("time", None)
        data.createDimension("lat", 3)
        data.createVariable("rain", "f4", ("time", "lat"))[:] = np.ones((5, 3))
        data["rain"].units = "mm"
    content = bytearray(path.read_bytes())
    assert content[3] == version
    needed = read_header(lambda size: bytes(content[:size]), len(content)).needed_size
    assert needed <= len(content) < needed + 4
    check_whole(path)
    path.write_bytes(content[: needed - 1])
    with pytest.raises(OSError, match=f"{needed - 1} of {needed} bytes are there"):
        check_whole(path)
    content[12 if version < 5 else 16] = 0x14  # the first byte of the number of dimensions
    path.write_bytes(content)
    with pytest.raises(OSError, match="its header states"):
        check_whole(path)
    with pytest.raises(InputError, match="damaged or incomplete"):
        open_grid([path])


def test_a_classic_header_that_is_cut_ends_too_soon(tmp_path):
    path = tmp_path / "rain.nc"
    netCDF4.Dataset(path, "w", format="NETCDF3_CLASSIC").close()
    write_grid(path, np.ones((2, 3, 3)))
    check_whole(path)
    path.write_bytes(path.read_bytes()[:60])
    with pytest.raises(OSError, match="ends too soon"):
        check_whole(path)
