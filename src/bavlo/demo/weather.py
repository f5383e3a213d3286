"""Weather for the Sorrel Coast: believable, and made up."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from scipy.ndimage import gaussian_filter, zoom
from scipy.signal import lfilter

from bavlo.core.space.layout import GridLayout
from bavlo.demo.world import CELL, EAST, NORTH, SEED, SOUTH, WEST, YEARS, World

LON = np.round(np.arange(WEST + CELL / 2, EAST, CELL), 4)
LAT = np.round(np.arange(SOUTH + CELL / 2, NORTH, CELL), 4)[::-1]
RAIN_STEP = 0.02  # mm; what a rain gauge tells, and what the files keep
WARMING = 0.28  # degrees a decade


@dataclass(frozen=True, eq=False)
class Decade:
    """Ten years of daily fields.

    Parameters
    ----------
    day : (T,) int
        Days since the beginning of the first year of all.
    rain, tmax, tmin : (T, ny, nx) float32
        mm and degrees Celsius; NaN over the sea and where data is missing.
    """

    first: int
    last: int
    day: np.ndarray
    rain: np.ndarray
    tmax: np.ndarray
    tmin: np.ndarray


def land_mask(world: World) -> np.ndarray:
    """(ny, nx) cells whose centre is on land."""
    lon, lat = np.meshgrid(LON, LAT)
    return np.asarray(shapely.contains_xy(world.land, lon, lat))


def land_layout() -> GridLayout:
    """The cells of all grids."""
    ny, nx = LAT.size, LON.size
    return GridLayout(np.linspace(WEST, EAST, nx + 1), np.linspace(NORTH, SOUTH, ny + 1))


def elevation() -> np.ndarray:
    """(ny, nx) metres above the sea: a ridge in the east, lowlands in the west."""
    rng = np.random.default_rng([SEED, 1])
    lon, lat = np.meshgrid(LON, LAT)
    ridge = 83.7 + 0.25 * np.sin(2.1 * lat)
    height = 1750 * np.exp(-(((lon - ridge) / 0.75) ** 2)) + 60 * np.clip(lon - 79.5, 0, None)
    roughness = gaussian_filter(rng.normal(size=lon.shape), 1.6)
    return np.asarray(np.clip(height * (1 + 1.4 * roughness), 0, None))


def make_decade(world: World, first: int) -> Decade:
    """Ten years of rain and temperature, always the same for the same decade."""
    last = min(first + 9, YEARS[1])
    start = np.datetime64(f"{YEARS[0]}-01-01")
    days = np.arange(np.datetime64(f"{first}-01-01"), np.datetime64(f"{last + 1}-01-01"))
    day = (days - start).astype(int)
    season = 2 * np.pi * (days - days.astype("datetime64[Y]")).astype(int) / 365.25
    winter = -np.cos(season - 0.35).astype(np.float32)  # 1 in July: the south
    rng = np.random.default_rng([SEED, 2, first])
    height = elevation().astype(np.float32)

    storms = _field(rng, days.size, (5, 6), 0.55)
    showers = _field(rng, days.size, (15, 20), 0.25)
    wet_years = np.repeat(rng.normal(0, 0.16, last - first + 1), 366)[: days.size]
    rain = 0.84 * storms + 0.54 * showers
    del showers
    lift = 0.25 * np.tanh((height - 500) / 600)
    rain += (0.30 * winter + wet_years - 0.60)[:, None, None].astype(np.float32) + lift
    np.clip(rain, 0, None, out=rain)
    rain = 11.0 * rain**1.55 * (0.75 + height / 1600)
    rain[rain < 0.2] = 0
    rain = np.rint(rain / np.float32(RAIN_STEP)) * np.float32(RAIN_STEP)

    slow = _field(rng, days.size, (4, 5), 0.80)
    fast = _field(rng, days.size, (6, 8), 0.60)
    trend = WARMING * day / 3652.5
    mean = (17.2 - 6.3 * winter + trend)[:, None, None].astype(np.float32)
    mean = mean + 2.1 * slow - 0.0058 * height + 0.55 * (LAT[:, None] + 35).astype(np.float32)
    spread = 4.4 - 0.8 * winter[:, None, None] - 1.6 * np.tanh(rain / 6) + 0.7 * fast
    np.clip(spread, 0.8, None, out=spread)
    tmax, tmin = mean + spread, mean - spread

    sea = ~land_mask(world)
    for field in (rain, tmax, tmin):
        field[:, sea] = np.nan
    _leave_gaps(days, rain, tmax, tmin)
    return Decade(first, last, day, rain, tmax, tmin)


def _leave_gaps(days: np.ndarray, rain: np.ndarray, tmax: np.ndarray, tmin: np.ndarray) -> None:
    """What is missing: a few days of all rain, a month of rain in the north, a day of warmth."""

    def between(first: str, last: str) -> np.ndarray:
        return (days >= np.datetime64(first)) & (days <= np.datetime64(last))

    rain[between("2003-07-11", "2003-07-14")] = np.nan
    north = LAT > -34.2
    rain[np.ix_(between("1998-02-06", "1998-03-02"), north)] = np.nan
    tmax[between("2011-01-19", "2011-01-19")] = np.nan
    tmin[between("1995-09-02", "1995-09-20")[:, None, None] & (LAT < -36)[:, None] & (LON > 83)] = (
        np.nan
    )


def _field(
    rng: np.random.Generator, steps: int, nodes: tuple[int, int], memory: float
) -> np.ndarray:
    """(steps, ny, nx) standard normal fields, smooth in space, with memory from day to day."""
    shape = (LAT.size, LON.size)
    noise = rng.standard_normal((steps, nodes[0] * nodes[1]), dtype=np.float32)
    noise = lfilter([np.sqrt(1 - memory**2)], [1, -memory], noise, axis=0).astype(np.float32)
    spread = np.zeros((nodes[0] * nodes[1], shape[0] * shape[1]), np.float32)
    for n in range(spread.shape[0]):
        one = np.zeros(nodes)
        one.flat[n] = 1
        factors = (shape[0] / nodes[0], shape[1] / nodes[1])
        spread[n] = zoom(one, factors, order=2, mode="nearest").ravel()
    spread /= np.sqrt((spread**2).sum(axis=0))
    return np.asarray((noise @ spread).reshape(steps, *shape))
