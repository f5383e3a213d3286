"""Rasters of class codes that no CF flags tell of, and days that are counted."""

import numpy as np
import pytest
import rasterio
from rasterio.transform import from_origin

from bavlo.errors import BavloError
from bavlo.figures.maps import draw_map
from bavlo.grids.open import open_grid
from bavlo.jobs.describe_grids import describe_grid
from bavlo.jobs.map import map_content
from bavlo.request.filling import make_request
from bavlo.request.reporter import SilentReporter
from support import box, rows, run, write_grid, write_regions

CODES = np.repeat([[10, 20, 20, 30]], 4, axis=0).astype("uint8")


@pytest.fixture(scope="module")
def regions(tmp_path_factory):
    return write_regions(tmp_path_factory.mktemp("regions") / "r.geojson", {"a": box(0, 0, 4, 4)})


def raster(path, values, colours=None):
    with rasterio.open(
        path,
        "w",
        driver="GTiff",
        width=values.shape[1],
        height=values.shape[0],
        count=1,
        dtype=values.dtype,
        crs="EPSG:4326",
        transform=from_origin(0, values.shape[0], 1, 1),
    ) as data:
        data.write(values[None])
        if colours:
            data.write_colormap(1, colours)
    return path


def with_names(path, body):
    path.with_name(path.name + ".aux.xml").write_text(
        f'<PAMDataset><PAMRasterBand band="1">{body}</PAMRasterBand></PAMDataset>'
    )
    return path


@pytest.fixture
def plain(tmp_path):
    return raster(tmp_path / "cover.tif", CODES)


@pytest.fixture
def coloured(tmp_path):
    return raster(
        tmp_path / "cover.tif", CODES, {10: (255, 0, 0, 255), 20: (0, 255, 0), 30: (1, 2, 3)}
    )


def shares(grid, regions):
    found = rows("series", grid, regions, measure=["shares"])
    return {r["class"]: round(float(r["value"]), 9) for r in found if r["measure"] == "share"}


def test_few_whole_numbers_without_unit_are_asked_about_and_not_averaged(plain, regions):
    with pytest.raises(BavloError, match="class codes, counts or a state; say kind='class'"):
        rows("series", plain, regions)
    assert shares(plain, regions) == {"10": 0.25, "20": 0.5, "30": 0.25}
    (mean,) = rows("series", plain, regions, kind=["state"])
    assert float(mean["value"]) == pytest.approx(20, rel=1e-14)
    total = rows("series", plain, regions, kind=["count"], measure=["sum"])
    assert float(total[0]["value"]) == 320
    facts = dict(describe_grid(open_grid([plain])).facts)
    assert facts["kind"].startswith("not told (a few whole numbers without unit)")


def test_many_whole_numbers_are_a_state(tmp_path, regions):
    grid = raster(tmp_path / "height.tif", np.arange(400, dtype="int16").reshape(20, 20))
    assert rows("series", grid, regions)[0]["value"]


def test_a_colour_table_tells_class_codes_and_colours_their_map(coloured, regions):
    with pytest.raises(BavloError, match="of class codes means nothing"):
        rows("series", coloured, regions)
    assert shares(coloured, regions) == {"10": 0.25, "20": 0.5, "30": 0.25}
    assert "told by colour table" in dict(describe_grid(open_grid([coloured])).facts)["kind"]
    request = make_request("map", {"grids": [str(coloured)], "out": ["x.png"]})
    content = map_content(request, SilentReporter())
    assert (20, "20", "#00ff00") in content.categories
    legend = draw_map(content).legends[0]
    assert [text.get_text() for text in legend.get_texts()] == ["10", "20", "30"]
    assert legend.get_patches()[0].get_facecolor() == (1, 0, 0, 1)


def test_category_names_stand_in_tables_and_maps(plain, regions):
    names = ["", *(f"class {n}" for n in range(1, 31))]
    body = "".join(f"<Category>{name}</Category>" for name in names)
    with_names(plain, f"<CategoryNames>{body}</CategoryNames>")
    assert shares(plain, regions) == {"class 10": 0.25, "class 20": 0.5, "class 30": 0.25}
    request = make_request("map", {"grids": [str(plain)], "out": ["x.png"]})
    legend = draw_map(map_content(request, SilentReporter())).legends[0]
    assert [t.get_text() for t in legend.get_texts()] == ["class 10", "class 20", "class 30"]


def test_an_attribute_table_names_classes(plain, regions):
    fields = "".join(
        f"<FieldDefn><Name>{name}</Name><Usage>{usage}</Usage></FieldDefn>"
        for name, usage in (("Value", 5), ("Cover", 2))
    )
    lines = "".join(
        f"<Row><F>{code}</F><F>{name}</F></Row>"
        for code, name in ((10, "forest"), (20, "heath"), (30, "town"))
    )
    with_names(plain, f"<GDALRasterAttributeTable>{fields}{lines}</GDALRasterAttributeTable>")
    assert shares(plain, regions) == {"forest": 0.25, "heath": 0.5, "town": 0.25}


def test_codes_are_not_brought_onto_other_cells_by_means(plain, tmp_path):
    onto = write_grid(tmp_path / "onto.nc", np.ones((1, 2, 2)), lon=[1, 3], lat=[1, 3], time=False)
    refused = run("grid", plain, "--onto", onto, "--out", tmp_path / "o.tif", check=False)
    assert "class codes, counts or a state" in refused.stderr
    run("grid", plain, "--kind", "state", "--onto", onto, "--out", tmp_path / "o.tif")


@pytest.mark.parametrize(
    ("name", "long_name", "expected"),
    [
        ("wet", "number of wet days", 15.0),
        ("number_of_frost_days", "", 15.0),
        ("cdd", "largest number of consecutive dry days", None),
        ("dry", "days since last rain", None),
        ("wet", "wet days", None),
    ],
)
def test_days_add_up_only_where_they_are_a_number_of_days(
    tmp_path, regions, name, long_name, expected
):
    grid = write_grid(
        tmp_path / "days.nc",
        np.full((3, 4, 4), 5.0),
        name=name,
        unit="days",
        stamps=[0, 31, 59],
        attributes={"long_name": long_name} if long_name else {},
    )
    if expected is None:
        with pytest.raises(BavloError, match="nothing tells whether"):
            rows("series", grid, regions, every="all")
        found = rows("series", grid, regions, every="all", kind=["state"])
        assert float(found[0]["value"]) == pytest.approx(5)
    else:
        found = rows("series", grid, regions, every="all")
        assert (float(found[0]["value"]), found[0]["unit"]) == (pytest.approx(expected), "days")


@pytest.mark.parametrize(
    ("unit", "days"), [("mm/dekad", 10), ("mm/pentad", 5), ("mm per dekad", 10)]
)
def test_amounts_per_dekad_are_those_of_their_steps(tmp_path, regions, unit, days):
    first = np.array([1, 11, 21]) if days == 10 else np.array([1, 6, 11, 16, 21, 26])
    stamps = np.concatenate([first - 1, first + 30])
    grid = write_grid(
        tmp_path / "rain.nc", np.full((stamps.size, 4, 4), 7.0), unit=unit, stamps=stamps
    )
    found = rows("series", grid, regions)
    total = 7 * first.size
    assert [round(float(r["value"]), 9) for r in found] == [total, total]
    assert {r["unit"] for r in found} == {"mm"}
