"""Small plain NetCDF-4 files are understood without the netCDF library as that understands them."""

import itertools

import h5py
import netCDF4
import numpy as np
import pytest

from bavlo.grids import cf, hdf5, netcdf


def both(path):
    """The variables of a file by the HDF5 library, or None, and by the netCDF library."""
    plain = hdf5.open_plain(path)
    data, container = netcdf._open_any(path)
    return plain, container, data


def assert_alike(path):
    plain, expected, data = both(path)
    assert plain is not None
    file, found = plain
    assert list(found) == list(expected)
    for name, one in found.items():
        other = expected[name]
        assert (one.name, one.dimensions, one.shape) == (other.name, other.dimensions, other.shape)
        assert one.dtype.newbyteorder("=") == other.dtype.newbyteorder("=")
        assert (one.chunks, one.default_fill) == (other.chunks, other.default_fill)
        assert one.is_hdf5 == other.is_hdf5
        assert one.attributes.keys() == other.attributes.keys()
        for key, value in one.attributes.items():
            assert type(value) is type(other.attributes[key]), (name, key)
            np.testing.assert_array_equal(value, other.attributes[key])
        for part in (slice(None), slice(0, 1)) if one.shape else ((),):
            np.testing.assert_array_equal(one.read(part), other.read(part))
    file.close()
    data.close()


def test_all_netcdf_files_of_the_demo_look_the_same_either_way(demo):
    paths = sorted(demo.glob("*.nc"))
    plain = [path for path in paths if hdf5.open_plain(path) is not None]
    assert demo / "monthly_rain.nc" in plain
    for path in plain:
        assert_alike(path)


@pytest.mark.parametrize("order", ["little", "big"])
@pytest.mark.parametrize("kind", ["i1", "u1", "i2", "u2", "i4", "u4", "i8", "u8", "f4", "f8"])
def test_numbers_and_attributes_of_every_type_are_the_same(tmp_path, kind, order):
    path = tmp_path / "grid.nc"
    with netCDF4.Dataset(path, "w") as data:
        data.createDimension("time", None)
        data.createDimension("y", 3)
        data.createDimension("nv", 2)  # without a coordinate
        for name in ("y", "time"):  # not in the order of their names
            data.createVariable(name, "f8", (name,))[:] = np.arange(3.0)
        data.createVariable("y_bnds", "f8", ("y", "nv"))[:] = np.arange(6.0).reshape(3, 2)
        values = data.createVariable(
            "values", kind, ("time", "y"), zlib=True, shuffle=True, endian=order,
            chunksizes=(1, 3), fill_value=np.dtype(kind).type(7),
        )  # fmt: skip
        values[2] = np.arange(3)
        values[0] = np.arange(3)  # the second row is never written
        values.units, values.empty, values.named = "mm", "", ["dry", "wet"]
        values.accent, values.one = "à l'ombre", np.array([3.5])
        values.several = np.array([1, 2, 3], kind)
        data.createVariable("crs", "i4").grid_mapping_name = "latitude_longitude"
        data.createVariable("whole", kind, ("y",), contiguous=True)[:] = [1, 2, 3]
    assert_alike(path)


def in_groups(data):
    data.createGroup("model").createVariable("rain", "f4", ("y",))


def with_text(data):
    data.createVariable("name", str, ("y",))


def with_characters(data):
    data.createVariable("crs", "S1")


def with_classes(data):
    kind = data.createEnumType("i1", "kinds", {"none": 0, "forest": 1})
    data.createVariable("cover", kind, ("y",), fill_value=0)


def on_a_dimension_of_another_length(data):
    data.createVariable("late", "f4", ("time", "y"))[:1] = 1


def with_a_coordinate_of_two_dimensions(data):
    data.createDimension("lat", 4)
    data.createVariable("lat", "f4", ("lat", "y"))


def named_as_a_dimension_that_it_lacks(data):
    data.createDimension("x", 4)
    data.createVariable("x", "f4", ("y",))


@pytest.mark.parametrize(
    "add",
    [
        in_groups,
        with_text,
        with_characters,
        with_classes,
        on_a_dimension_of_another_length,
        with_a_coordinate_of_two_dimensions,
        named_as_a_dimension_that_it_lacks,
    ],
)
def test_files_with_more_in_them_are_left_to_the_netcdf_library(tmp_path, add):
    path = tmp_path / "grid.nc"
    with netCDF4.Dataset(path, "w") as data:
        data.createDimension("time", None)
        data.createDimension("y", 3)
        data.createVariable("time", "f8", ("time",))[:] = [0, 1]
        data.createVariable("rain", "f4", ("time", "y"))[:] = np.ones((2, 3))
        add(data)
    plain, expected, _ = both(path)
    assert plain is None
    with netcdf.container(path) as found:
        assert list(found) == list(expected)


def test_hdf5_files_without_scales_or_order_are_left_to_the_netcdf_library(tmp_path):
    for order in (True, False):
        path = tmp_path / f"bare{order}.nc"
        with h5py.File(path, "w", track_order=order) as data:
            data["rain"] = np.ones((2, 3))
        assert hdf5.open_plain(path) is None
        with netcdf.container(path) as found:
            assert found["rain"].shape == (2, 3)


def test_chunks_of_many_steps_are_left_to_the_netcdf_library(tmp_path):
    path = tmp_path / "grid.nc"
    with netCDF4.Dataset(path, "w") as data:
        for name, size in (("time", 300), ("y", 50), ("x", 60)):
            data.createDimension(name, size)
            data.createVariable(name, "f8", (name,))[:] = np.arange(size)
        rain = data.createVariable("rain", "f4", ("time", "y", "x"), chunksizes=(100, 50, 60))
        rain[:] = 1
    assert rain is not None
    assert hdf5.open_plain(path) is None


def test_the_known_fills_are_those_of_the_netcdf_library():
    for name, fill in cf.DEFAULT_FILLS.items():
        assert netCDF4.default_fillvals[name] == fill
        assert cf.default_fill(np.dtype(name).newbyteorder(">")) == fill
    assert cf.default_fill(np.dtype("i1")) is None


def test_many_files_are_opened_by_the_netcdf_library(tmp_path, monkeypatch):
    monkeypatch.setattr(netcdf, "_count", itertools.count())
    kinds = []
    for n in range(netcdf.FEW + 2):
        path = tmp_path / f"{n}.nc"
        with netCDF4.Dataset(path, "w") as data:
            data.createDimension("y", 2)
            data.createVariable("y", "f8", ("y",))[:] = n, n + 1
        with netcdf.container(path) as found:
            assert found["y"].read(slice(None)).tolist() == [n, n + 1]
        kinds.append(type(netcdf._open[path][0]))
    assert kinds == [h5py.File] * netcdf.FEW + [netCDF4.Dataset] * 2


def test_a_file_that_is_written_anew_is_opened_anew(tmp_path, monkeypatch):
    monkeypatch.setattr(netcdf, "_count", itertools.count())
    path = tmp_path / "grid.nc"
    for size in (3, 4):
        with netCDF4.Dataset(path, "w") as data:
            data.createDimension("y", size)
            data.createVariable("y", "f8", ("y",))[:] = np.arange(size)
        with netcdf.container(path) as found:
            assert found["y"].shape == (size,)
            assert found["y"].read(slice(None)).tolist() == list(range(size))
