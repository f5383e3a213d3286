"""The Sorrel Coast is the same every time, and looks like a coast."""

import json

import numpy as np
import pytest
import rasterio
import shapely

from bavlo.demo.extras import write_extras
from bavlo.demo.files import _write_decade, _write_districts, _write_watersheds
from bavlo.demo.weather import LAT, LON, elevation, land_mask, make_decade
from bavlo.demo.world import make_world
from bavlo.grids.open import open_grid
from bavlo.regions.read import RegionOptions, read_regions


def test_the_world_is_made_the_same_way_each_time():
    one, other = make_world(), make_world()
    assert repr(one) == repr(other) or str(one.__dict__) == str(other.__dict__)
    heights = elevation()
    land = land_mask(one)
    assert heights.shape == land.shape == (LAT.size, LON.size)
    assert 0.2 < land.mean() < 0.9
    assert heights[land].max() > 1000


def test_a_decade_has_seasons_gaps_and_rain_that_is_never_below_zero():
    decade = make_decade(make_world(), 1991)
    again = make_decade(make_world(), 1991)
    arrays = {k: v for k, v in vars(decade).items() if isinstance(v, np.ndarray)}
    for name, values in arrays.items():
        np.testing.assert_array_equal(values, getattr(again, name))
    assert np.nanmin(decade.rain) >= 0
    assert np.isnan(decade.rain).any()
    with np.errstate(invalid="ignore"):
        assert not (decade.tmax < decade.tmin).any()
    summer, winter = (np.nanmean(decade.tmax[n : n + 30]) for n in (10, 190))
    assert summer > winter + 5


@pytest.mark.slow
def test_its_files_are_read_by_their_own_readers(tmp_path):
    world = make_world()
    for path in (*_write_watersheds(tmp_path, world), *_write_districts(tmp_path, world)):
        if path.suffix in (".geojson", ".zip"):
            regions = read_regions(path, RegionOptions(label="name")).regions
            assert len(regions) > 5
            assert shapely.is_valid(regions.geometry).all()
    paths, totals = _write_decade(tmp_path, world, 1991)
    rain = open_grid([next(p for p in paths if p.name.startswith("rain"))])
    assert len(rain.time) == 3653
    assert totals.shape[0] == 120
    (tmp_path / "daily").mkdir(exist_ok=True)
    extras = write_extras(tmp_path, world, np.zeros((31, LAT.size, LON.size), np.float32))
    people = next(path for path in extras if path.name == "people.tif")
    with rasterio.open(people) as data:
        assert data.read(1).max() > 0
    text = (tmp_path / "watersheds.geojson").read_text()
    assert json.loads(text)["features"]
