"""Files that lead to other files, and what is no file, are not read unasked."""

import os

import h5py
import netCDF4
import numpy as np
import pytest

from bavlo.errors import InputError
from bavlo.files import check_regular
from bavlo.grids.elsewhere import check_heaps, check_inside
from support import box, run, write_grid, write_regions


@pytest.mark.parametrize("size", [0, 3, 4, 30, 2**32 - 1])
@pytest.mark.parametrize("deflated", [False, True])
def test_a_chunk_with_a_checksum_whose_size_cannot_be_is_refused(tmp_path, size, deflated):
    path = tmp_path / "rain.nc"
    with netCDF4.Dataset(path, "w") as data:
        data.createDimension("n", 1000)
        variable = data.createVariable("rain", "f4", ("n",), zlib=deflated, fletcher32=True)
        variable[:] = np.random.default_rng(1).random(1000)
    check_inside(path)
    with h5py.File(path) as data:
        told = data["rain"].id.get_chunk_info(0).size
    content = path.read_bytes()
    assert content.count(told.to_bytes(4, "little")) == 1
    path.write_bytes(content.replace(told.to_bytes(4, "little"), size.to_bytes(4, "little")))
    if deflated and size == 30:  # which could be: the library then finds the checksum wrong
        check_inside(path)
        return
    with pytest.raises(InputError, match=f"cannot be of {size} bytes; the file is damaged"):
        check_inside(path)


@pytest.mark.parametrize("padding", [0, 2**21])
def test_a_heap_over_which_the_library_would_loop_is_refused(tmp_path, padding):
    path = write_grid(tmp_path / "rain.nc", np.ones((4, 3, 3)))
    content = path.read_bytes()
    start = content.index(b"GCOL") + 16
    check_inside(path)
    damaged = bytearray(content)
    damaged[start : start + 16] = bytes(16)
    if padding:  # the collection in the last part of a file, the user's own bytes before it
        damaged = content[:8] + bytes(padding) + bytes(damaged)
    path.write_bytes(damaged)
    with pytest.raises(InputError, match="holds an object of no size; fetch the file again"):
        check_heaps(path)


def test_bytes_that_look_like_a_heap_are_none(tmp_path):
    path = tmp_path / "rain.nc"
    for odd in (b"GCOL", b"GCOL" + bytes(40), b"GCOL\x01\0\0\0" + bytes(8)):
        path.write_bytes(b"\x89HDF\r\n\x1a\n" + b"x" * 50 + odd)
        check_heaps(path)


def linked(path, target):
    del path["rain"]
    path["rain"] = h5py.ExternalLink(target, "rain")


def raw(data, target):
    shape = data["rain"].shape
    del data["rain"]
    data.create_dataset("rain", shape, "f4", external=[(target, 0, 4 * int(np.prod(shape)))])


def virtual(data, target):
    layout = h5py.VirtualLayout(data["rain"].shape, "f4")
    layout[:] = h5py.VirtualSource(target, "rain", data["rain"].shape)
    del data["rain"]
    data.create_virtual_dataset("rain", layout)


@pytest.mark.parametrize("way", [linked, raw, virtual])
@pytest.mark.parametrize("inside", [True, False])
def test_hdf5_files_are_followed_within_their_own_folder_only(tmp_path, way, inside):
    folder = tmp_path / "a"
    folder.mkdir()
    other = (folder if inside else tmp_path) / "other.nc"
    for path in (folder / "rain.nc", other):
        write_grid(path, np.ones((3, 2, 2)))
    with h5py.File(folder / "rain.nc", "a") as data:
        way(data, str(other))
    if inside:
        check_inside(folder / "rain.nc")
        return
    with pytest.raises(InputError, match=r"keeps values in another file, .*other\.nc"):
        check_inside(folder / "rain.nc")


def test_a_file_that_reaches_elsewhere_is_read_where_that_is_asked_for(tmp_path):
    folder = tmp_path / "a"
    folder.mkdir()
    write_grid(tmp_path / "other.nc", np.ones((3, 2, 2)))
    write_grid(folder / "rain.nc", np.ones((3, 2, 2)))
    with h5py.File(folder / "rain.nc", "a") as data:
        linked(data, str(tmp_path / "other.nc"))
    write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 2, 2)})
    words = ["series", folder / "rain.nc", "--regions", tmp_path / "r.geojson", "--every", "day"]
    done = run(*words, check=False)
    assert done.returncode == 1
    assert "use --follow if that is meant" in done.stderr
    assert run(*words, "--follow").returncode == 0


def test_a_virtual_layer_is_no_file_of_regions(tmp_path):
    path = tmp_path / "v.geojson"
    path.write_text("<OGRVRTDataSource><OGRVRTLayer name='x'/></OGRVRTDataSource>")
    done = run("describe", path, check=False)
    assert "only points to other files" in done.stderr


@pytest.mark.parametrize(
    "words",
    [
        ("describe", "pipe.nc"),
        ("describe", "pipe.geojson"),
        ("series", "rain.nc", "--regions", "pipe.geojson"),
        ("chart", "pipe.csv", "--out", "a.png"),
        ("map", "pipe.nc", "--out", "a.png"),
        ("describe", "/dev/zero"),
    ],
)
def test_pipes_and_devices_are_refused_and_not_waited_for(words, tmp_path):
    write_grid(tmp_path / "rain.nc", np.ones((3, 2, 2)))
    for name in ("pipe.nc", "pipe.geojson", "pipe.csv"):
        os.mkfifo(tmp_path / name)
    done = run(*words, cwd=tmp_path, check=False)
    assert done.returncode == 1
    assert "is a pipe or a device; write it to a file first" in done.stderr


def test_what_is_not_there_is_left_to_those_who_open_it(tmp_path):
    check_regular(tmp_path / "nothing")
    check_regular(tmp_path)


@pytest.mark.parametrize(("name", "value"), [("scale_factor", 0.0), ("add_offset", np.nan)])
def test_a_packing_that_unpacks_nothing_is_refused(tmp_path, name, value):
    path = write_grid(tmp_path / "rain.nc", np.ones((3, 2, 2)))
    with netCDF4.Dataset(path, "a") as data:
        data["rain"].setncattr(name, value)
    done = run("describe", path, check=False)
    assert done.returncode == 1
    assert f"its {name} is" in done.stderr


def test_one_stamp_in_another_millennium_makes_no_thousand_periods(tmp_path):
    path = write_grid(tmp_path / "rain.nc", np.ones((3, 2, 2)), stamps=[0.0, 1.0, 3e6])
    write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 2, 2)})
    words = ["series", path, "--regions", tmp_path / "r.geojson", "--every", "day"]
    done = run(*words, check=False)
    assert done.returncode == 2
    assert "no step lies between" in done.stderr
    first = done.stderr.split("between ")[-1][:10]
    assert run(*words, "--during", f"{first}..{first}").returncode == 0
