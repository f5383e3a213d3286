"""The Sorrel Coast as files: NetCDF grids and vector regions."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor, as_completed
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import shapely

from bavlo.demo.extras import RASTER_MONTH, write_extras, write_station_rain
from bavlo.demo.weather import LAT, LON, RAIN_STEP, Decade, make_decade
from bavlo.demo.world import DISTRICT_CRS, DISTRICTS, SEED, YEARS, World, make_world
from bavlo.regions.vector import SHAPEFILE, Features, write

FILL = -32768
STUDY = "study.toml"
STEPS_A_CHUNK = 30


@dataclass(frozen=True)
class Stored:
    """How a variable is kept in a file."""

    name: str
    unit: str
    standard_name: str
    long_name: str
    cell_methods: str
    scale: float
    offset: float


RAIN = Stored("rain", "mm", "precipitation_amount", "Daily rain", "time: sum", RAIN_STEP, 600.0)
TMAX = Stored(
    "tmax", "K", "air_temperature", "Daily highest temperature", "time: maximum", 0.1, 290.0
)
TMIN = Stored(
    "tmin", "K", "air_temperature", "Daily lowest temperature", "time: minimum", 0.1, 280.0
)
KELVIN = 273.15


def make_files(folder: Path, on_progress: Callable[[int, int], None]) -> list[Path]:
    """Write the whole demo world.

    Parameters
    ----------
    on_progress
        Hears how many of how many parts are done.
    """
    world = make_world()
    decades = list(range(YEARS[0], YEARS[1], 10))
    parts = len(decades) + 1
    paths = [*_write_watersheds(folder, world), *_write_districts(folder, world)]
    on_progress(1, parts)
    months = {}
    with ProcessPoolExecutor(len(decades)) as pool:
        tasks = {pool.submit(_write_decade, folder, world, first): first for first in decades}
        for done, task in enumerate(as_completed(tasks), start=2):
            files, months[tasks[task]] = task.result()
            paths += files
            on_progress(done, parts)
    totals = np.concatenate([months[first] for first in decades])
    paths.append(_write_months(folder, totals))
    paths.append(_write_second_source(folder, totals))
    paths += write_extras(folder, world, _month_of_rain(folder))
    paths.append(write_station_rain(folder / "station_rain.csv", *_last_decade_of_rain(folder)))
    paths.append(Path(shutil.copyfile(Path(__file__).with_name(STUDY), folder / STUDY)))
    return sorted(paths)


def _month_of_rain(folder: Path) -> np.ndarray:
    """(days, ny, nx) rain of one month, read back from the file of its decade."""
    import netCDF4

    month = np.datetime64(RASTER_MONTH)
    path = next(
        p
        for p in sorted(folder.glob("rain_*.nc"))[::-1]
        if int(p.stem[5:9]) <= int(RASTER_MONTH[:4])
    )
    with netCDF4.Dataset(path) as data:
        first = np.datetime64(f"{path.stem[5:9]}-01-01")
        low = (month.astype("datetime64[D]") - first).astype(int)
        high = ((month + 1).astype("datetime64[D]") - first).astype(int)
        return np.asarray(np.ma.filled(data["rain"][low:high].astype(float), np.nan))


def _last_decade_of_rain(folder: Path) -> tuple[list[str], np.ndarray]:
    """Days of the last file of rain, and its values (T, ny, nx)."""
    import netCDF4

    path = sorted(folder.glob("rain_*.nc"))[-1]
    with netCDF4.Dataset(path) as data:
        rain = np.asarray(np.ma.filled(data["rain"][:].astype(float), np.nan))
    first = np.datetime64(f"{path.stem[5:9]}-01-01")
    return [str(first + n) for n in range(len(rain))], rain


def _write_second_source(folder: Path, totals: np.ndarray) -> Path:
    """Another estimate of monthly rain: coarser, drier in the mountains, a rate, from 2001 on."""
    import netCDF4

    rng = np.random.default_rng([SEED, 4])
    path = folder / "satellite_rain.nc"
    months = np.arange("2001-01", f"{YEARS[1] + 1}-02", dtype="datetime64[M]")
    days = (months.astype("datetime64[D]") - np.datetime64(f"{YEARS[0]}-01-01")).astype(int)
    kept = totals[-(months.size - 1) :]
    ny, nx = LAT.size // 2, LON.size // 2
    blocks = kept.reshape(-1, ny, 2, nx, 2)
    valid = ~np.isnan(blocks)
    count = valid.sum(axis=(2, 4))
    mean = np.where(valid, blocks, 0).sum(axis=(2, 4)) / np.maximum(count, 1)
    noisy = mean**0.96 * rng.lognormal(0.03, 0.12, mean.shape)
    seconds = np.diff(days)[:, None, None] * 86400.0
    rate = np.where(count > 1, noisy / seconds, -1.0)
    with netCDF4.Dataset(path, "w", format="NETCDF4") as data:
        _describe(data, "Monthly rain as seen from above")
        bounds = np.column_stack([days[:-1], days[1:]])
        lat, lon = LAT.reshape(-1, 2).mean(axis=1), LON.reshape(-1, 2).mean(axis=1)
        _axes(data, bounds.mean(axis=1), bounds, lat, lon)
        variable = data.createVariable(
            "pr", "f4", ("time", "lat", "lon"), zlib=True, complevel=1, fill_value=-1.0
        )
        variable.set_auto_maskandscale(False)
        variable.units, variable.standard_name = "kg m-2 s-1", "precipitation_flux"
        variable.long_name, variable.cell_methods = "Rain rate seen from above", "time: mean"
        variable[:] = rate.astype("f4")
    return path


def _write_watersheds(folder: Path, world: World) -> list[Path]:
    path = folder / "watersheds.geojson"
    names = list(world.watersheds)
    features = Features(
        np.array([_multi(shape) for shape in world.watersheds.values()]),
        {"name": np.array(names, object), "station": np.arange(101, 101 + len(names))},
        "OGC:CRS84",
        "GeoJSON",
        "watersheds",
    )
    write(path, features, "MultiPolygon", RFC7946="YES")
    return [path]


def _write_districts(folder: Path, world: World) -> list[Path]:
    """Districts in metres, so that a reference system has to be dealt with."""
    import pyproj

    path = folder / "districts.zip"
    transform = pyproj.Transformer.from_crs("OGC:CRS84", DISTRICT_CRS, always_xy=True)

    def projected(points: np.ndarray) -> np.ndarray:
        return np.column_stack(transform.transform(points[:, 0], points[:, 1]))

    shapes = [shapely.transform(_multi(shape), projected) for shape in world.districts.values()]
    features = Features(
        np.array(shapes),
        {
            "code": np.array(list(DISTRICTS), object),
            "name": np.array([name for name, _ in DISTRICTS.values()], object),
        },
        DISTRICT_CRS,
        SHAPEFILE,
        "districts",
    )
    write(path.with_suffix(".shz"), features, "MultiPolygon", ENCODING="UTF-8")
    path.with_suffix(".shz").replace(path)
    return [path]


def _multi(shape: shapely.Geometry) -> shapely.MultiPolygon:
    return shapely.MultiPolygon([p for p in shapely.get_parts(shape) if p.geom_type == "Polygon"])


def _write_decade(folder: Path, world: World, first: int) -> tuple[list[Path], np.ndarray]:
    """Three files of one decade, and the monthly totals of rain."""
    decade = make_decade(world, first)
    years = f"{decade.first}-{decade.last}"
    fields = (
        (RAIN, decade.rain),
        (TMAX, decade.tmax + np.float32(KELVIN)),
        (TMIN, decade.tmin + np.float32(KELVIN)),
    )
    paths = []
    for stored, values in fields:
        paths.append(folder / f"{stored.name}_{years}.nc")
        _write_daily(paths[-1], stored, decade.day, values)
    return paths, _monthly(decade)


def _write_daily(path: Path, stored: Stored, day: np.ndarray, values: np.ndarray) -> None:
    import netCDF4

    with netCDF4.Dataset(path, "w", format="NETCDF4") as data:
        _describe(data, stored.long_name)
        bounds = np.column_stack([day, day + 1])
        _axes(data, day + 0.5, bounds)
        variable = data.createVariable(
            stored.name,
            "i2",
            ("time", "lat", "lon"),
            zlib=True,
            complevel=1,
            shuffle=True,
            fill_value=FILL,
            chunksizes=(min(STEPS_A_CHUNK, day.size), LAT.size, LON.size),
        )
        variable.set_auto_maskandscale(False)
        _attributes(variable, stored)
        variable.scale_factor, variable.add_offset = stored.scale, stored.offset
        with np.errstate(invalid="ignore"):
            packed = np.rint((values - stored.offset) / stored.scale)
        variable[:] = np.where(np.isnan(packed), FILL, packed).astype("i2")


def _monthly(decade: Decade) -> np.ndarray:
    """(months, ny, nx) totals; a month with a missing day has none."""
    start = np.datetime64(f"{YEARS[0]}-01-01")
    month = (start + decade.day).astype("datetime64[M]")
    _, first = np.unique(month, return_index=True)
    return np.asarray(np.add.reduceat(decade.rain, first, axis=0))


def _write_months(folder: Path, totals: np.ndarray) -> Path:
    import netCDF4

    path = folder / "monthly_rain.nc"
    months = np.arange(f"{YEARS[0]}-01", f"{YEARS[1] + 1}-02", dtype="datetime64[M]")
    days = (months.astype("datetime64[D]") - months[0].astype("datetime64[D]")).astype(int)
    with netCDF4.Dataset(path, "w", format="NETCDF4") as data:
        _describe(data, "Monthly rain")
        bounds = np.column_stack([days[:-1], days[1:]])
        _axes(data, bounds.mean(axis=1), bounds)
        variable = data.createVariable(
            "rain", "f4", ("time", "lat", "lon"), zlib=True, complevel=1, fill_value=-9999.0
        )
        variable.set_auto_maskandscale(False)
        _attributes(variable, RAIN)
        variable.long_name = "Monthly rain"
        variable[:] = np.where(np.isnan(totals), -9999.0, totals).astype("f4")
    return path


def _describe(data: object, title: str) -> None:
    data.Conventions = "CF-1.11"  # type: ignore[attr-defined]
    data.title = f"{title} of the Sorrel Coast, a made-up place"  # type: ignore[attr-defined]


def _attributes(variable: object, stored: Stored) -> None:
    for name in ("standard_name", "long_name", "cell_methods"):
        setattr(variable, name, getattr(stored, name))
    variable.units = stored.unit  # type: ignore[attr-defined]


def _axes(
    data: object,
    stamps: np.ndarray,
    bounds: np.ndarray,
    lat: np.ndarray = LAT,
    lon: np.ndarray = LON,
) -> None:
    """Time with bounds, latitude from north to south, longitude."""
    create = data.createVariable  # type: ignore[attr-defined]
    for name, size in (("time", None), ("lat", lat.size), ("lon", lon.size), ("nv", 2)):
        data.createDimension(name, size)  # type: ignore[attr-defined]
    time = create("time", "f8", ("time",))
    time.units, time.calendar = f"days since {YEARS[0]}-01-01", "standard"
    time.standard_name, time.bounds, time.axis = "time", "time_bnds", "T"
    time[:] = stamps
    create("time_bnds", "f8", ("time", "nv"))[:] = bounds
    for name, values, unit, long_name in (
        ("lat", lat, "degrees_north", "latitude"),
        ("lon", lon, "degrees_east", "longitude"),
    ):
        axis = create(name, "f8", (name,))
        axis.units, axis.standard_name, axis.bounds = unit, long_name, f"{name}_bnds"
        axis[:] = values
        edge = (values[1] - values[0]) / 2
        create(f"{name}_bnds", "f8", (name, "nv"))[:] = np.round(
            np.column_stack([values - edge, values + edge]), 4
        )
