"""The Sorrel Coast: a made-up strip of mountains and lowlands where there is only open ocean."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from shapely import LineString, MultiPolygon, Point, Polygon

SEED = 20260
WEST, EAST, SOUTH, NORTH = 78.0, 86.0, -38.0, -32.0
CELL = 0.125
YEARS = (1991, 2020)
ISLAND = (78.85, -34.55)
DISTRICT_CRS = "EPSG:32744"  # UTM zone 44 south

# Where each watershed lies, roughly; the last number is the size of its surroundings.
WATERSHEDS = {
    "Upper Corran": (83.35, -33.05),
    "Lower Corran": (81.20, -32.75),
    "Tassick": (82.35, -33.75),
    "Velmar Reach": (80.70, -33.75),
    "Ombrel": (83.55, -34.30),
    "Pell Sound": (80.55, -34.75),
    "Drenna": (82.10, -34.85),
    "Quillon": (83.50, -35.45),
    "Hask and Morrow": (81.05, -35.80),
    "Sarrow": (82.45, -36.05),
    "Upper Bruna": (83.75, -36.70),
    "Lower Bruna": (81.50, -36.95),
    "Nettlemere": (82.75, -37.30),
    "Tolwick": (81.00, -37.50),
}
INNER_BASIN = ("Lysk Hollow", (82.33, -36.02), 0.27)  # drains nowhere, inside Sarrow
TINY = {"Fenny Beck": (81.32, -33.32, 0.035), "Otterslade": (81.75, -35.42, 0.03)}
ISLAND_OF = "Pell Sound"

DISTRICTS = {
    "01": ("Corrandale", (82.6, -32.8)),
    "02": ("Velmar", (80.9, -33.4)),
    "03": ("Highmoor", (83.5, -34.1)),
    "04": ("Pell", (80.3, -34.7)),
    "05": ("Drennaside", (82.1, -34.8)),
    "06": ("Quill and Ash", (83.4, -35.8)),
    "07": ("Morrowby", (81.2, -36.0)),
    "08": ("Brunafells", (83.2, -37.2)),
    "09": ("Tolwick and the Nettle Coast", (81.3, -37.2)),
}


@dataclass(frozen=True, eq=False)
class World:
    """The shapes of the Sorrel Coast, in longitude and latitude.

    Parameters
    ----------
    land
        Everything that is not sea.
    watersheds, districts
        Polygons by name.
    """

    land: MultiPolygon
    watersheds: dict[str, Polygon | MultiPolygon]
    districts: dict[str, Polygon | MultiPolygon]


def make_world() -> World:
    """Make the coast, the watersheds and the districts; always the same."""
    rng = np.random.default_rng(SEED)
    coast = _rough(
        [(80.5, -38.4), (80.1, -36.6), (79.6, -35.0), (79.9, -33.4), (80.7, -31.6)], 7, 0.13, rng
    )
    divide = _rough(
        [(84.1, -31.9), (84.5, -33.8), (84.0, -35.2), (84.6, -36.6), (84.0, -38.1)], 6, 0.10, rng
    )
    north = _rough([(80.4, -32.25), (82.3, -32.45), (84.3, -32.3)], 6, 0.09, rng)
    south = _rough([(80.2, -37.75), (82.2, -37.65), (84.2, -37.8)], 6, 0.09, rng)
    island = _blob(ISLAND, 0.30, rng)
    mainland = Polygon([*coast, (90, -30), (90, -40)])
    land = MultiPolygon([shapely.make_valid(mainland), island])

    lines = [LineString(line) for line in (coast, divide, north, south)]
    frame = shapely.box(79, -37.9, 84.9, -32.1)
    cells = shapely.get_parts(shapely.polygonize([shapely.union_all([*lines, frame.exterior])]))
    strip = max(cells, key=lambda face: face.area if face.covers(Point(82.3, -35)) else 0)

    watersheds = _territories(strip, WATERSHEDS, 0.16, rng)
    hollow, centre, radius = INNER_BASIN
    pieces = {hollow: _blob(centre, radius, rng)}
    pieces |= {name: _blob((x, y), r, rng) for name, (x, y, r) in TINY.items()}
    for name, piece in pieces.items():
        watersheds = {n: shapely.difference(shape, piece) for n, shape in watersheds.items()}
        watersheds[name] = shapely.intersection(piece, strip)
    watersheds[ISLAND_OF] = shapely.union(watersheds[ISLAND_OF], island)

    seeds = {f"{code} {name}": position for code, (name, position) in DISTRICTS.items()}
    districts = _territories(strip, seeds, 0.06, rng)
    pell = next(name for name in districts if name.endswith("Pell"))
    districts[pell] = shapely.union(districts[pell], island)
    return World(land, watersheds, districts)


def _territories(
    whole: Polygon,
    seeds: dict[str, tuple[float, float]],
    roughness: float,
    rng: np.random.Generator,
) -> dict[str, Polygon | MultiPolygon]:
    """Share out an area among seeds, with rough borders that neighbours have in common."""
    points = np.array(list(seeds.values()))
    straight = shapely.voronoi_polygons(
        shapely.multipoints(points), extend_to=whole.buffer(1), only_edges=True
    )
    borders = []
    for line in shapely.get_parts(straight):
        corners = shapely.get_coordinates(line)
        borders.append(LineString(_rough(corners, 6, roughness, rng)))
    faces = shapely.get_parts(shapely.polygonize([shapely.union_all([*borders, whole.exterior])]))
    parts: dict[str, list[Polygon]] = {name: [] for name in seeds}
    cells = shapely.get_parts(
        shapely.voronoi_polygons(shapely.multipoints(points), extend_to=whole.buffer(1))
    )
    owners = {name: next(c for c in cells if c.covers(Point(p))) for name, p in seeds.items()}
    for face in faces:
        if whole.covers(face.representative_point()):
            best = max(owners, key=lambda name: shapely.intersection(owners[name], face).area)
            parts[best].append(face)
    return _in_one_piece({name: shapely.union_all(shapes) for name, shapes in parts.items()})


def _in_one_piece(
    shapes: dict[str, Polygon | MultiPolygon],
) -> dict[str, Polygon | MultiPolygon]:
    """Give every smaller part of a territory to the neighbour with which it shares most border."""
    whole = {n: max(shapely.get_parts(s), key=lambda p: p.area) for n, s in shapes.items()}
    for name, shape in shapes.items():
        for part in shapely.get_parts(shape):
            if part is whole[name] or part.equals(whole[name]):
                continue
            borders = {
                other: shapely.length(shapely.intersection(part.boundary, near.boundary))
                for other, near in whole.items()
            }
            best = max(borders, key=lambda other: borders[other])
            if borders[best] > 0:
                whole[best] = shapely.union(whole[best], part)
    return whole


def _rough(corners: object, depth: int, roughness: float, rng: np.random.Generator) -> np.ndarray:
    """A line made irregular by moving the middle of every piece sideways, again and again."""
    line = np.asarray(corners, np.float64)
    for _ in range(depth):
        along = np.diff(line, axis=0)
        aside = np.column_stack([-along[:, 1], along[:, 0]])
        shift = np.clip(rng.normal(0, roughness, (len(along), 1)), -2 * roughness, 2 * roughness)
        middle = (line[:-1] + line[1:]) / 2 + aside * shift
        out = np.empty((len(line) + len(middle), 2))
        out[::2], out[1::2] = line, middle
        line = out
    return np.round(line, 6)


def _blob(centre: tuple[float, float], radius: float, rng: np.random.Generator) -> Polygon:
    """A rough round shape."""
    angle = np.linspace(0, 2 * np.pi, 9)[:-1]
    reach = radius * rng.uniform(0.75, 1.2, angle.size)
    corners = np.column_stack(
        [centre[0] + reach * np.cos(angle), centre[1] + reach * np.sin(angle)]
    )
    outline = _rough(np.vstack([corners, corners[:1]]), 4, 0.10, rng)
    shape = shapely.make_valid(Polygon(outline))
    return max(shapely.get_parts(shape), key=lambda part: part.area)
