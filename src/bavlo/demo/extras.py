"""What stands beside the daily grids of the Sorrel Coast: people, land cover, stations, rasters."""

from __future__ import annotations

import csv
from pathlib import Path
from typing import Any

import numpy as np
import shapely
from scipy.ndimage import gaussian_filter

from bavlo.core.space.regions import region_edges
from bavlo.core.space.shared_areas import overlay
from bavlo.demo.weather import LAT, LON, elevation, land_layout, land_mask
from bavlo.demo.world import CELL, NORTH, SEED, WEST, World
from bavlo.regions.vector import Features, write

LAND_COVER = {1: "forest", 2: "pasture", 3: "crops", 4: "heath", 5: "bare rock", 6: "town"}
STATIONS = {
    "Corran Head": (83.05, -33.10),
    "Fenny Mill": (81.32, -33.32),
    "Pell Light": (78.86, -34.55),
    "Drenna Bridge": (82.12, -34.80),
    "Lysk": (82.33, -36.02),
    "Bruna Top": (83.80, -36.65),
}
RASTER_MONTH = "2018-07"


def write_extras(folder: Path, world: World, july_rain: np.ndarray) -> list[Path]:
    """Write people, land cover, stations, a zone raster, a GeoPackage and a folder of GeoTIFFs.

    Parameters
    ----------
    july_rain : (31, ny, nx) float
        Daily rain of RASTER_MONTH.
    """
    cover, people = _cover_and_people(world)
    paths = [
        _write_tif(folder / "people.tif", people.astype("f4"), -1, units="people"),
        _write_cover(folder / "landcover.nc", cover),
        _write_stations(folder / "stations.csv"),
        _write_geopackage(folder / "regions.gpkg", world),
        *_write_zones(folder, world),
    ]
    rasters = folder / "rain_tif"
    rasters.mkdir(exist_ok=True)
    for day, values in enumerate(july_rain, start=1):
        path = rasters / f"rain_{RASTER_MONTH}-{day:02d}.tif"
        paths.append(_write_tif(path, values.astype("f4"), -9999, units="mm"))
    return paths


def _cover_and_people(world: World) -> tuple[np.ndarray, np.ndarray]:
    """(ny, nx) land cover codes, 0 for the sea, and people in each cell."""
    rng = np.random.default_rng([SEED, 5])
    land, height = land_mask(world), elevation()
    noise = gaussian_filter(rng.normal(size=land.shape), 1.5) * 6
    level = height / 300 + noise
    cover = np.digitize(level, [0.3, 1.6, 2.8, 4.5])
    cover = np.choose(cover, [3, 2, 1, 4, 5])
    towns = gaussian_filter(rng.normal(size=land.shape), 0.7) - height / 2500 > 0.95
    cover = np.where(towns, 6, cover)
    density = np.select([cover == 6, cover == 3, cover == 2], [9000, 900, 350], 40)
    people = np.round(density * rng.uniform(0.6, 1.4, land.shape))
    return np.where(land, cover, 0), np.where(land, people, -1)


def _write_tif(path: Path, values: np.ndarray, nodata: float, **tags: str) -> Path:
    import rasterio
    from rasterio.transform import from_origin

    stored = np.where(np.isnan(values), nodata, values).astype(values.dtype)
    with rasterio.open(
        path,
        "w",
        driver="GTiff",
        height=LAT.size,
        width=LON.size,
        count=1,
        dtype=values.dtype,
        crs="EPSG:4326",
        nodata=nodata,
        compress="deflate",
        transform=from_origin(WEST, NORTH, CELL, CELL),
    ) as data:
        data.write(stored, 1)
        data.update_tags(1, **tags)
    return path


def _write_cover(path: Path, cover: np.ndarray) -> Path:
    """Land cover with CF flags; it has no time."""
    import netCDF4

    with netCDF4.Dataset(path, "w") as data:
        data.Conventions, data.title = "CF-1.11", "Land cover of the Sorrel Coast, a made-up place"
        for name, values, unit in (("lat", LAT, "degrees_north"), ("lon", LON, "degrees_east")):
            data.createDimension(name, values.size)
            data.createVariable(name, "f8", (name,))[:] = values
            data[name].units = unit
        variable: Any = data.createVariable(
            "landcover", "i1", ("lat", "lon"), zlib=True, fill_value=0
        )
        variable.long_name = "Land cover"
        variable.flag_values = np.array(list(LAND_COVER), "i1")
        variable.flag_meanings = " ".join(n.replace(" ", "_") for n in LAND_COVER.values())
        variable[:] = cover.astype("i1")
    return path


def _write_stations(path: Path) -> Path:
    with path.open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file)
        writer.writerow(["name", "lon", "lat"])
        writer.writerows((name, *position) for name, position in STATIONS.items())
    return path


def write_station_rain(path: Path, days: list[str], rain: np.ndarray) -> Path:
    """Daily rain as observed at the stations: that of their cells, with an error of the gauge.

    Parameters
    ----------
    rain : (T, ny, nx) float
        Of the days, NaN where there is none.
    """
    rng = np.random.default_rng([SEED, 11])
    with path.open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file)
        writer.writerow(["station", "date", "rain (mm)"])
        for name, (lon, lat) in STATIONS.items():
            row, column = int(np.abs(LAT - lat).argmin()), int(np.abs(LON - lon).argmin())
            own = rain[:, row, column]
            caught = own * rng.normal(0.95, 0.06, own.size)
            for day, value in zip(days, caught.tolist(), strict=True):
                if value == value:
                    writer.writerow([name, day, f"{max(value, 0):.1f}"])
    return path


def _write_geopackage(path: Path, world: World) -> Path:
    """Watersheds and districts as layers of one file."""
    path.unlink(missing_ok=True)
    for layer, shapes in (("watersheds", world.watersheds), ("districts", world.districts)):
        geometry = np.array([shapely.MultiPolygon(shapely.get_parts(s)) for s in shapes.values()])
        names = {"name": np.array(list(shapes), object)}
        write(path, Features(geometry, names, "EPSG:4326", "GPKG", layer), "MultiPolygon")
    return path


def _write_zones(folder: Path, world: World) -> list[Path]:
    """Watersheds as a raster of codes, each cell given to the one that has most of it."""
    shared = overlay(region_edges(np.array(list(world.watersheds.values()))), land_layout())
    codes = np.zeros(LAT.size * LON.size, "i2")
    most = np.zeros(codes.size)
    for region in range(shared.regions):
        part = slice(shared.indptr[region], shared.indptr[region + 1])
        cells, share = shared.cells[shared.index[part]], shared.fraction[part]
        more = share > most[cells]
        codes[cells[more]], most[cells[more]] = region + 1, share[more]
    path, names = folder / "zones.tif", folder / "zones.csv"
    with names.open("w", newline="", encoding="utf-8") as file:
        writer = csv.writer(file)
        writer.writerow(["code", "name"])
        writer.writerows(enumerate(world.watersheds, start=1))
    return [_write_tif(path, codes.reshape(LAT.size, LON.size), 0), names]
