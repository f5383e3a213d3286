"""What libraries do badly with damaged files is refused before they read, at the user's door.

Each test fails, or does not end, where its guard in `grids/guards.py` is gone.
"""

import os
import struct
import subprocess
import sys
from unittest import mock

import h5py
import netCDF4
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bavlo.errors import InputError
from bavlo.files import check_regular
from bavlo.grids.formats.classic import read_header
from bavlo.grids.guards import check_blosc, check_heaps, check_inside
from support import box, run, write_grid, write_regions

VALUES = np.random.default_rng(3).gamma(0.5, 8, (20, 9, 12)).round(1).astype("f4")


def refused(path, *options):
    """What the program says of a file, in a process of its own that may crash or never end."""
    regions = write_regions(path.parent / "r.geojson", {"a": box(0, 0, 3, 3)})
    words = ["series", path, "--regions", regions, "--every", "day", "--kind", "amount", *options]
    done = subprocess.run(
        [sys.executable, "-m", "bavlo", *map(str, words)],
        capture_output=True,
        text=True,
        timeout=60,
    )
    assert done.returncode == 1, done.stderr
    assert len(done.stderr.splitlines()) == 1
    assert not done.stdout
    return done.stderr


@pytest.mark.parametrize(
    ("form", "version"),
    [("NETCDF3_CLASSIC", 1), ("NETCDF3_64BIT_OFFSET", 2), ("NETCDF3_64BIT_DATA", 5)],
)
def test_a_classic_file_that_is_cut_is_not_read_as_zeros(tmp_path, form, version):
    path = tmp_path / "rain.nc"
    netCDF4.Dataset(path, "w", format=form).close()
    write_grid(path, VALUES)
    content = bytearray(path.read_bytes())
    assert content[3] == version
    needed = read_header(lambda size: bytes(content[:size]), len(content)).needed_size
    assert needed <= len(content) < needed + 4
    path.write_bytes(content[: needed - 1])
    assert f"{needed - 1} of {needed} bytes are there" in refused(path)
    path.write_bytes(content[:60])
    assert "rain.nc" in refused(path)


@pytest.mark.parametrize("form", ["NETCDF3_CLASSIC", "NETCDF3_64BIT_DATA"])
def test_a_classic_header_of_more_dimensions_than_the_file_has_room_for_is_refused(tmp_path, form):
    path = tmp_path / "rain.nc"
    netCDF4.Dataset(path, "w", format=form).close()
    write_grid(path, VALUES)
    content = bytearray(path.read_bytes())
    content[16 if content[3] == 5 else 12] = 0x14  # the first byte of their number
    path.write_bytes(content)
    assert "its header states" in refused(path)


@pytest.mark.parametrize("size", [0, 3, 30, 2**32 - 1])
@pytest.mark.parametrize("deflated", [False, True])
def test_a_chunk_with_a_checksum_whose_size_cannot_be_is_refused(tmp_path, size, deflated):
    path = write_grid(
        tmp_path / "rain.nc", VALUES, chunksizes=VALUES.shape, zlib=deflated, fletcher32=True
    )
    with h5py.File(path) as data:
        told = data["rain"].id.get_chunk_info(0).size.to_bytes(4, "little")
    content = path.read_bytes()
    assert content.count(told) == 1
    path.write_bytes(content.replace(told, size.to_bytes(4, "little")))
    # A size of 30 could be that of a deflated chunk: the library then finds the checksum wrong.
    expected = "damaged" if deflated and size == 30 else f"cannot be of {size} bytes"
    assert expected in refused(path)


@pytest.mark.parametrize("padding", [0, 2**21])
def test_a_heap_over_which_the_library_would_loop_is_refused(tmp_path, padding):
    path = write_grid(tmp_path / "rain.nc", np.ones((4, 3, 3)))
    content = path.read_bytes()
    start = content.index(b"GCOL") + 16
    damaged = bytearray(content)
    damaged[start : start + 16] = bytes(16)
    if padding:  # the collection in the last part of a file, the user's own bytes before it
        damaged = content[:8] + bytes(padding) + bytes(damaged)
    path.write_bytes(damaged)
    if padding:
        with pytest.raises(InputError, match="holds an object of no size; fetch the file again"):
            check_heaps(path)
    else:
        assert "holds an object of no size; fetch the file again" in refused(path)


def test_bytes_that_look_like_a_heap_are_none(tmp_path):
    path = tmp_path / "rain.nc"
    for odd in (b"GCOL", b"GCOL" + bytes(40), b"GCOL\x01\0\0\0" + bytes(8)):
        path.write_bytes(b"\x89HDF\r\n\x1a\n" + b"x" * 50 + odd)
        check_heaps(path)


def linked(path, target):
    del path["rain"]
    path["rain"] = h5py.ExternalLink(target, "rain")


def on_scales(data):
    for axis, name in enumerate(("time", "lat", "lon")):
        data["rain"].dims[axis].attach_scale(data[name])


def raw(data, target):
    shape = data["rain"].shape
    del data["rain"]
    data.create_dataset("rain", shape, "f4", external=[(target, 0, 4 * int(np.prod(shape)))])
    on_scales(data)


def virtual(data, target):
    layout = h5py.VirtualLayout(data["rain"].shape, "f4")
    layout[:] = h5py.VirtualSource(target, "rain", data["rain"].shape)
    del data["rain"]
    data.create_virtual_dataset("rain", layout)
    on_scales(data)


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
    else:
        assert "keeps values in another file" in refused(folder / "rain.nc")


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
    assert "set BAVLO_FOLLOW=1 in the environment if that is meant" in done.stderr
    with mock.patch.dict(os.environ, BAVLO_FOLLOW="1"):
        assert run(*words).returncode == 0


def write_store(path, zarr_format):
    """Daily rain in two chunks that Blosc compressed; the file of the first of them."""
    zarr = pytest.importorskip("zarr")
    group = zarr.open_group(path, mode="w", zarr_format=zarr_format)
    names = ("time", "lat", "lon")
    centres = np.arange(20.0), np.arange(9) + 0.5, np.arange(12) + 0.5
    units = "days since 2001-01-01", "degrees_north", "degrees_east"
    more = {"dimension_names": names} if zarr_format == 3 else {}
    for name, values, unit in zip(names, centres, units, strict=True):
        own = {"dimension_names": [name]} if zarr_format == 3 else {}
        array = group.create_array(name, data=values, **own)
        array.attrs.update({"units": unit, "_ARRAY_DIMENSIONS": [name]})
    numcodecs = pytest.importorskip("numcodecs")
    compressor = zarr.codecs.BloscCodec() if zarr_format == 3 else numcodecs.Blosc()
    array = group.create_array(
        "rain", data=VALUES, chunks=(10, 9, 12), compressors=compressor, **more
    )
    array.attrs.update(
        {"units": "mm", "cell_methods": "time: sum", "_ARRAY_DIMENSIONS": list(names)}
    )
    return path / "rain" / ("c/0/0/0" if zarr_format == 3 else "0.0.0")


@pytest.mark.parametrize("zarr_format", [2, 3])
@pytest.mark.parametrize("stated", [0, 15, 2**30, 2**32 - 1])
def test_a_chunk_of_blosc_that_states_another_length_than_it_has_is_refused(
    tmp_path, zarr_format, stated
):
    chunk = write_store(tmp_path / "rain.zarr", zarr_format)
    content = bytearray(chunk.read_bytes())
    struct.pack_into("<I", content, 12, stated)
    chunk.write_bytes(content)
    assert f"states {stated} bytes and has {len(content)}" in refused(tmp_path / "rain.zarr")


@given(st.binary(max_size=60))
def test_what_is_no_chunk_of_blosc_is_refused_or_inflated_within_its_bounds(content):
    numcodecs = pytest.importorskip("numcodecs")
    try:
        check_blosc(content)
        found = numcodecs.Blosc().decode(content)
    except (ValueError, RuntimeError):
        return
    assert len(found) == struct.unpack_from("<I", content, 4)[0]


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
    path = write_grid(tmp_path / "rain.nc", np.ones((3, 2, 2)), stamps=[0.0, 1.0, 4e5])
    write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 2, 2)})
    words = ["series", path, "--regions", tmp_path / "r.geojson", "--every", "day"]
    done = run(*words, check=False)
    assert done.returncode == 2
    assert "no step lies between" in done.stderr
    first = done.stderr.split("between ")[-1][:10]
    assert run(*words, "--during", f"{first}..{first}").returncode == 0
