"""GRIB files, made by the library itself."""

from pathlib import Path

import numpy as np
import pyproj
import pytest

from bavlo import kept
from bavlo.core.space.layout import AUTHALIC_RADIUS_KM
from bavlo.core.time.axis import iso_minute
from bavlo.errors import BavloError
from bavlo.grids.cells import whole
from bavlo.grids.formats import grib
from bavlo.grids.formats.grib_layouts import gaussian_edges, gaussian_latitudes
from bavlo.grids.formats.grib_messages import library, scan
from bavlo.grids.open import open_grid
from bavlo.grids.source import ReadOptions
from bavlo.jobs.describe_grids import describe_grid
from bavlo.remembered import INDEXES
from support import box, program, rows, write_regions

eccodes = library(Path("grib"))

NY, NX = 5, 8
FIELD = np.arange(NY * NX, dtype=float).reshape(NY, NX)


@pytest.fixture(scope="module")
def regions(tmp_path_factory):
    shapes = {"a": box(20.2, -1.7, 24.6, 2.3), "b": box(24.6, -1.7, 27.1, 2.3)}
    return write_regions(tmp_path_factory.mktemp("regions") / "r.geojson", shapes)


def message(values=FIELD, edition=2, sample=None, **keys):
    """A message on 1-degree cells from 20.5 E, 2.5 N, or with other keys."""
    handle = eccodes.codes_grib_new_from_samples(sample or f"regular_ll_sfc_grib{edition}")
    plain = {
        "Ni": NX,
        "Nj": NY,
        "latitudeOfFirstGridPointInDegrees": 2.5,
        "latitudeOfLastGridPointInDegrees": -1.5,
        "longitudeOfFirstGridPointInDegrees": 20.5,
        "longitudeOfLastGridPointInDegrees": 27.5,
        "iDirectionIncrementInDegrees": 1,
        "jDirectionIncrementInDegrees": 1,
    }
    general = {"dataDate": 20130305, "dataTime": 0, "bitsPerValue": 24, "shortName": "2t"}
    for key, value in {**general, **({} if sample else plain), **keys}.items():
        if key not in ("missing",):
            eccodes.codes_set(handle, key, value)
    if "missing" in keys:
        eccodes.codes_set(handle, "bitmapPresent", 1)
        eccodes.codes_set(handle, "missingValue", keys["missing"])
    eccodes.codes_set_values(handle, np.asarray(values, float).ravel())
    data = eccodes.codes_get_message(handle)
    eccodes.codes_release(handle)
    return data


def write(path, *messages):
    path.write_bytes(b"".join(messages))
    return path


def field_of(path, step=0, **options):
    source = open_grid([path], ReadOptions(**options))
    values = source.read(step, step + 1, whole(source.layout.shape))
    return source, values.reshape(source.layout.shape)


@pytest.mark.parametrize("edition", [1, 2])
def test_a_field_keeps_its_name_unit_date_and_cells(tmp_path, edition, regions):
    path = write(tmp_path / "t.grib", message(edition=edition, dataTime=600, step=3))
    source, found = field_of(path)
    np.testing.assert_allclose(found, FIELD, atol=1e-4)
    assert (source.variable.name, source.variable.unit) == ("2t", "K")
    assert source.layout.x_edges.tolist() == list(range(20, 29))
    assert source.layout.y_edges.tolist() == list(range(3, -3, -1))
    assert iso_minute(int(source.time.start[0]), "standard") == "2013-03-05T00:00"
    facts = dict(describe_grid(source).facts)
    assert facts["variable"].startswith("2t in K, “2 metre temperature”")
    assert {row["unit"] for row in rows("series", path, regions, every="step")} == {"K"}


def test_missing_values_are_told_by_the_bit_map_and_9999_is_a_value(tmp_path):
    values = FIELD.copy()
    values[1, 2] = 1e9
    values[0, 0] = 9999
    _, found = field_of(write(tmp_path / "t.grib2", message(values, missing=1e9)))
    assert np.isnan(found[1, 2])
    assert np.isnan(found).sum() == 1
    assert found[0, 0] == pytest.approx(9999, abs=0.01)


@pytest.mark.parametrize("west", [False, True])
@pytest.mark.parametrize("north", [False, True])
@pytest.mark.parametrize("columns", [False, True])
@pytest.mark.parametrize("alternate", [False, True])
def test_every_scanning_order_gives_the_same_map(tmp_path, west, north, columns, alternate):
    """Values put into a message in its own order come back at their own longitudes."""
    runs = FIELD[::-1] if north else FIELD
    runs = runs[:, ::-1] if west else runs
    runs = (runs.T if columns else runs).copy()
    if alternate:
        runs[1::2] = runs[1::2, ::-1]
    data = message(
        runs,
        iScansNegatively=int(west),
        jScansPositively=int(north),
        jPointsAreConsecutive=int(columns),
        alternativeRowScanning=int(alternate),
        longitudeOfFirstGridPointInDegrees=27.5 if west else 20.5,
        longitudeOfLastGridPointInDegrees=20.5 if west else 27.5,
        latitudeOfFirstGridPointInDegrees=-1.5 if north else 2.5,
        latitudeOfLastGridPointInDegrees=2.5 if north else -1.5,
    )
    source, found = field_of(write(tmp_path / "t.grib2", data))
    order = np.argsort(-source.layout.y_centres), np.argsort(source.layout.x_centres)
    np.testing.assert_allclose(found[order[0]][:, order[1]], FIELD, atol=1e-4)
    assert sorted(source.layout.x_centres.tolist()) == [20.5 + n for n in range(NX)]


def test_variables_levels_and_members_are_told_apart_and_asked_for(tmp_path, regions):
    path = write(
        tmp_path / "m.grib2",
        message(),
        message(FIELD + 100, shortName="tp", stepType="accum", stepRange="0-24"),
        *(
            message(FIELD + level, shortName="t", typeOfLevel="isobaricInhPa", level=level)
            for level in (500, 850)
        ),
    )
    with pytest.raises(BavloError, match=r"several variables: 2t \(“2 metre.*K, state\); tp"):
        field_of(path)
    with pytest.raises(BavloError, match=r"dimension level of 2 values \(500, 850\)"):
        field_of(path, variable="t")
    for level in ("850", "level=850"):
        _, found = field_of(path, variable="t", level=(level,))
        np.testing.assert_allclose(found, FIELD + 850, atol=1e-3)
    with pytest.raises(BavloError, match="has no dimension height; it has: level, member"):
        field_of(path, variable="t", level=("height=2",))
    found = rows("series", path, regions, variable=["tp"], every="day")
    assert found[0]["unit"] == "m"
    assert found[0]["combine"] == "total"


def test_members_and_levels_together_are_named(tmp_path):
    path = write(
        tmp_path / "e.grib2",
        *(
            message(
                FIELD + 10 * member + level,
                shortName="t",
                typeOfLevel="isobaricInhPa",
                level=level,
                productDefinitionTemplateNumber=1,
                perturbationNumber=member,
                numberOfForecastsInEnsemble=3,
            )
            for member in (1, 2)
            for level in (500, 850)
        ),
    )
    with pytest.raises(BavloError, match="several further dimensions: level, member; say which"):
        field_of(path, level=("850",))
    with pytest.raises(BavloError, match=r"dimension member of 2 values \(1, 2\).*member=1"):
        field_of(path, level=("level=850",))
    _, found = field_of(path, level=("level=850", "member=2"))
    np.testing.assert_allclose(found, FIELD + 870, atol=1e-3)


def test_leads_of_several_runs_are_a_dimension_where_they_meet(tmp_path):
    path = write(
        tmp_path / "l.grib2",
        *(
            message(FIELD + day + lead, dataDate=20130300 + day, step=lead)
            for day in (1, 2, 3)
            for lead in (0, 24)
        ),
    )
    with pytest.raises(BavloError, match=r"dimension lead of 2 values \(0, 24\)"):
        field_of(path)
    source, found = field_of(path, level=("lead=24",))
    np.testing.assert_allclose(found, FIELD + 25, atol=1e-3)
    days = [iso_minute(int(t), "standard")[:10] for t in source.time.start]
    assert days == ["2013-03-02", "2013-03-03", "2013-03-04"]


def test_accumulations_end_where_they_say_and_growing_ones_are_asked_about(tmp_path, regions):
    amounts = [4, 1, 0, 7, 3, 2] * 4
    hourly = write(
        tmp_path / "h.grib2",
        *(
            message(np.full((NY, NX), amounts[n]), shortName="tp", stepType="accum",
                    stepRange=f"{n}-{n + 1}")
            for n in range(24)
        ),
    )  # fmt: skip
    found = rows("series", hourly, regions, every="day")
    assert [r["period"] for r in found] == ["2013-03-05", "2013-03-05"]
    assert [float(r["value"]) for r in found] == [pytest.approx(sum(amounts), rel=1e-5)] * 2
    growing = write(
        tmp_path / "g.grib2",
        *(
            message(np.full((NY, NX), 2.0 * n), shortName="tp", stepType="accum",
                    stepRange=f"0-{n}")
            for n in range(1, 25)
        ),
    )  # fmt: skip
    with pytest.raises(BavloError, match="two of them begin 2013-03-05T00:00; say kind="):
        rows("series", growing, regions, every="day")
    found = rows("series", growing, regions, every="day", kind=["accumulated"])
    assert float(found[0]["value"]) == pytest.approx(48, rel=1e-5)


def test_monthly_means_of_daily_totals_are_rates(tmp_path, regions):
    path = write(
        tmp_path / "moda.grib1",
        *(
            message(np.full((NY, NX), 0.002), edition=1, shortName="tp", dataDate=date,
                    indicatorOfTypeOfLevel=1, timeRangeIndicator=0, stepType="avgad")
            for date in (20130101, 20130201, 20130301)
        ),
    )  # fmt: skip
    headers = scan(path).headers
    assert {header.step_type for header in headers} == {"avgad"}
    found = rows("series", path, regions)
    assert [round(float(r["value"]), 4) for r in found[:3]] == [62, 56, 62]


def test_messages_on_other_grids_are_other_variables(tmp_path):
    small = message(FIELD[:, :4], Ni=4, longitudeOfLastGridPointInDegrees=23.5)
    path = write(tmp_path / "g.grib2", message(), small)
    names = [v.name for v in grib.FORMAT.variables(path, ReadOptions())]
    assert names == ["2t_grid1", "2t_grid2"]
    source, found = field_of(path, variable="2t_grid2")
    assert source.layout.shape == (NY, 4)
    np.testing.assert_allclose(found, FIELD[:, :4], atol=1e-4)


@pytest.mark.parametrize("number", [2, 16, 32])
def test_gaussian_latitudes_are_the_zeros_of_the_legendre_polynomial(number):
    lat = gaussian_latitudes(number)
    sines = np.sin(np.radians(lat))
    assert np.abs(np.polynomial.legendre.Legendre.basis(2 * number)(sines)).max() < 1e-10
    assert (np.diff(lat) < 0).all()
    edges = gaussian_edges(number)
    assert (edges[0], edges[-1], edges.size) == (90, -90, 2 * number + 1)


@pytest.mark.parametrize("sample", ["regular_gg_sfc_grib2", "reduced_gg_sfc_grib2"])
def test_gaussian_grids_cover_the_sphere_at_the_points_of_the_library(tmp_path, sample):
    handle = eccodes.codes_grib_new_from_samples(sample)
    lat = eccodes.codes_get_array(handle, "latitudes")
    eccodes.codes_release(handle)
    path = write(tmp_path / "g.grib2", message(lat, sample=sample))
    source, found = field_of(path)
    cells = np.arange(found.size)
    areas = source.layout.ellipsoid_areas(cells)
    assert areas.sum() == pytest.approx(4 * np.pi * AUTHALIC_RADIUS_KM**2, rel=1e-6)
    if sample.startswith("regular"):
        centres = source.layout.y_centres
        np.testing.assert_allclose(found[:, 0], lat.reshape(found.shape)[:, 0], atol=1e-3)
        assert np.abs(centres - found[:, 0]).max() < np.abs(np.diff(centres)).max() / 2
    world = write_regions(tmp_path / "w.geojson", {"north": box(-180, 0, 180, 90)})
    mean = float(rows("series", path, world, every="step")[0]["value"])
    # The mean of the latitude over the northern hemisphere is 90 - 180/π.
    assert mean == pytest.approx(90 - 180 / np.pi, abs=0.3)


@pytest.mark.parametrize(
    ("sample", "keys"),
    [
        ("rotated_ll_sfc_grib2", {}),
        (None, {"gridType": "polar_stereographic", "LaDInDegrees": 60, "Nx": NX, "Ny": NY,
                "orientationOfTheGridInDegrees": 20, "DxInMetres": 50000, "DyInMetres": 50000,
                "latitudeOfFirstGridPointInDegrees": 65,
                "longitudeOfFirstGridPointInDegrees": 10, "shapeOfTheEarth": 6,
                "jScansPositively": 1}),
        (None, {"gridType": "lambert", "LaDInDegrees": 30, "LoVInDegrees": 24,
                "Latin1InDegrees": 25, "Latin2InDegrees": 35, "DxInMetres": 20000,
                "DyInMetres": 20000, "Nx": NX, "Ny": NY,
                "latitudeOfFirstGridPointInDegrees": 28,
                "longitudeOfFirstGridPointInDegrees": 22, "jScansPositively": 1}),
    ],
)  # fmt: skip
def test_rotated_and_projected_cells_lie_where_the_library_has_their_points(tmp_path, sample, keys):
    handle = eccodes.codes_grib_new_from_samples(sample or "GRIB2")
    for key, value in keys.items():
        eccodes.codes_set(handle, key, value)
    if keys:
        eccodes.codes_set_values(handle, FIELD.ravel())
    lon, lat = (eccodes.codes_get_array(handle, key) for key in ("longitudes", "latitudes"))
    eccodes.codes_set_values(handle, lat)
    path = write(tmp_path / "p.grib2", eccodes.codes_get_message(handle))
    eccodes.codes_release(handle)
    source, found = field_of(path)
    transformer = pyproj.Transformer.from_crs(source.layout.crs, "OGC:CRS84", always_xy=True)
    x, y = np.meshgrid(source.layout.x_centres, source.layout.y_centres)
    at = transformer.transform(x, y)
    shape = source.layout.shape
    away = np.abs((np.array(at[0]) - lon.reshape(shape) + 180) % 360 - 180)
    assert (away * np.cos(np.radians(lat.reshape(shape)))).max() < 2e-3
    np.testing.assert_allclose(np.array(at[1]), lat.reshape(shape), atol=2e-3)
    np.testing.assert_allclose(found, lat.reshape(shape), atol=2e-3)


def test_rows_of_a_projection_go_south_from_the_first_point_where_the_message_says_so(tmp_path):
    keys = {"gridType": "lambert", "LaDInDegrees": 30, "LoVInDegrees": 24, "Latin1InDegrees": 30,
            "Latin2InDegrees": 30, "DxInMetres": 20000, "DyInMetres": 10000, "Nx": NX, "Ny": NY,
            "latitudeOfFirstGridPointInDegrees": 31, "longitudeOfFirstGridPointInDegrees": 24,
            "jScansPositively": 0}  # fmt: skip
    handle = eccodes.codes_grib_new_from_samples("GRIB2")
    for key, value in keys.items():
        eccodes.codes_set(handle, key, value)
    eccodes.codes_set_values(handle, FIELD.ravel())
    path = write(tmp_path / "p.grib2", eccodes.codes_get_message(handle))
    eccodes.codes_release(handle)
    source, found = field_of(path)
    np.testing.assert_allclose(found, FIELD, atol=1e-4)
    to_lonlat = pyproj.Transformer.from_crs(source.layout.crs, "OGC:CRS84", always_xy=True)
    lon, lat = to_lonlat.transform(source.layout.x_centres[0], source.layout.y_centres[0])
    assert (lon, lat) == (pytest.approx(24), pytest.approx(31))
    np.testing.assert_allclose(np.diff(source.layout.y_centres), -10000)


def test_regions_in_another_reference_system_go_with_grib(tmp_path):
    """The library's own PROJ must not take the place of the others'."""
    path = write(tmp_path / "t.grib2", message())
    utm = pyproj.Transformer.from_crs("OGC:CRS84", "EPSG:32634", always_xy=True)
    west, south = utm.transform(20.6, -1.2)
    shape = box(west, south, west + 200_000, south + 200_000)
    regions = write_regions(tmp_path / "r.geojson", {"a": shape})
    done = program(
        "series", path, "--regions", regions, "--input-crs", "regions=EPSG:32634", "--every", "step"
    )
    assert "1 row" in done.stdout


def test_spherical_harmonics_are_refused(tmp_path):
    handle = eccodes.codes_grib_new_from_samples("sh_sfc_grib2")
    path = write(tmp_path / "s.grib2", eccodes.codes_get_message(handle))
    with pytest.raises(BavloError, match="grid of the sort sh, which has no rows and columns"):
        field_of(path)


def test_several_fields_in_one_message_are_read_one_by_one(tmp_path):
    """Sections 4 to 7 may come again in a message of edition 2."""
    one, two = message(FIELD), message(FIELD + 50, step=6)

    def parts(data):
        from bavlo.grids.formats.grib_messages import sections

        return {n: data[at : at + size] for n, at, size in sections(data, 0, len(data))}

    a, b = parts(one), parts(two)
    body = b"".join(a[n] for n in (1, 3, 4, 5, 6, 7)) + b"".join(b[n] for n in (4, 5, 6, 7))
    head = one[:8] + (16 + len(body) + 4).to_bytes(8, "big")
    path = write(tmp_path / "m.grib2", head + body + b"7777")
    source, first = field_of(path)
    assert len(source.time) == 2
    np.testing.assert_allclose(first, FIELD, atol=1e-4)
    np.testing.assert_allclose(field_of(path, 1)[1], FIELD + 50, atol=1e-4)


def test_damaged_messages_are_refused_and_the_library_says_nothing(tmp_path, regions):
    good = message()
    for name, data, why in (
        ("cut", good + good[:-30], "cut short"),
        ("empty", b"", "the file is empty"),
        ("torn", good[:60] + b"\xff" * 8 + good[68:], "cannot be read"),
        ("other", b"GRIB" + bytes(3) + b"\x07" + bytes(90), "edition 7"),
    ):
        path = write(tmp_path / f"{name}.grib2", data)
        done = program("series", path, "--regions", regions, check=False)
        assert done.returncode == 1
        assert why in done.stderr
        assert len(done.stderr.strip().splitlines()) == 1


def test_an_index_asks_the_library_once_for_all_dates_of_a_variable(tmp_path, monkeypatch):
    from bavlo.grids.formats import grib_messages

    asked = []
    plain = grib_messages._ask

    def counted(*arguments):
        asked.append(arguments)
        return plain(*arguments)

    monkeypatch.setattr(grib_messages, "_ask", counted)
    path = write(
        tmp_path / "y.grib2",
        *(
            message(dataDate=20130101 + day, step=lead, shortName=name)
            for name in ("2t", "sp")
            for day in range(20)
            for lead in (0, 6)
        ),
    )
    found = scan(path)
    assert found.end.size == 80
    assert len(asked) == 2


def test_without_the_library_one_line_says_how_to_install_it(tmp_path, monkeypatch, regions):
    import builtins

    plain = builtins.__import__

    def without(name, *rest, **more):
        if name == "eccodes":
            raise ImportError(name)
        return plain(name, *rest, **more)

    path = write(tmp_path / "t.grib2", message())
    monkeypatch.setattr(builtins, "__import__", without)
    with pytest.raises(BavloError, match=r"pip install 'bavlo\[grib\]'"):
        open_grid([path])


def test_the_index_of_a_large_file_is_kept_as_long_as_the_file_does_not_change(
    tmp_path, monkeypatch
):
    monkeypatch.setenv("BAVLO_CACHE", str(tmp_path / "cache"))
    many = np.random.default_rng(2).random((1000, 1000))
    cells = {
        "Ni": 1000, "Nj": 1000, "iDirectionIncrementInDegrees": 0.01,
        "jDirectionIncrementInDegrees": 0.01, "latitudeOfLastGridPointInDegrees": -7.49,
        "longitudeOfLastGridPointInDegrees": 30.49,
    }  # fmt: skip
    large = [message(many, **cells), message(many, dataDate=20130306, **cells)]
    path = write(tmp_path / "t.grib2", *large)
    first = grib.messages_of(path)
    assert len(kept.entries()) == 1
    INDEXES.clear()
    again = grib.messages_of(path)
    assert again.headers == first.headers
    for name in grib.ARRAYS:
        assert (getattr(again, name) == getattr(first, name)).all()
    write(path, large[0])
    assert grib.messages_of(path).end.size == 1
