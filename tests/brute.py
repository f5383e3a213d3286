"""The slow and plain way to the numbers: cell by cell, step by step."""

import netCDF4
import numpy as np
import shapely

NODES, WEIGHTS = np.polynomial.legendre.leggauss(8)


def cell_weights(shape, x_edges, y_edges):
    """(ny, nx) area of each cell within a shape on the unit sphere, by quadrature."""
    out = np.zeros((len(y_edges) - 1, len(x_edges) - 1))
    shapely.prepare(shape)
    for j in range(out.shape[0]):
        for i in range(out.shape[1]):
            cell = shapely.box(
                min(x_edges[i : i + 2]),
                min(y_edges[j : j + 2]),
                max(x_edges[i : i + 2]),
                max(y_edges[j : j + 2]),
            )
            if shape.intersects(cell):
                shared = cell if shape.contains_properly(cell) else shape.intersection(cell)
                out[j, i] = sum(map(_area, shapely.get_parts(shared)))
    return out


def _area(part):
    if part.geom_type != "Polygon":
        return 0.0
    total = 0.0
    for ring in shapely.get_rings(part):
        points = shapely.get_coordinates(ring)
        x0, y0 = points[:-1].T
        x1, y1 = points[1:].T
        share = (NODES[:, None] + 1) / 2
        lon = (x0 - points[0, 0]) + share * (x1 - x0)
        lat = np.radians(y0 + share * (y1 - y0))
        strips = WEIGHTS[:, None] * lon * np.cos(lat) * np.radians(y1 - y0) / 2
        total += abs(strips.sum()) * (1 if ring.equals(part.exterior) else -1)
    return np.radians(total)


def read_all(paths, name):
    """Dates and (T, ny, nx) values of several files, by the netCDF4 library's own decoding."""
    dates, values = [], []
    for path in paths:
        with netCDF4.Dataset(path) as data:
            time = data["time"]
            numbers = np.floor(time[:])
            dates.extend(netCDF4.num2date(numbers, time.units, time.calendar))
            values.append(np.ma.filled(data[name][:].astype(float), np.nan))
    return dates, np.concatenate(values)


def weighted_mean(values, weights):
    """Mean of the values that are there."""
    there = ~np.isnan(values) & (weights > 0)
    return (values[there] * weights[there]).sum() / weights[there].sum()


def weighted_percentile(values, weights, percent):
    """Linear between the midpoints of the cumulated weights."""
    pairs = sorted((v, w) for v, w in zip(values, weights, strict=True) if w > 0 and v == v)
    total = sum(w for _, w in pairs)
    midpoints, so_far = [], 0.0
    for _, w in pairs:
        midpoints.append((so_far + w / 2) / total)
        so_far += w
    return np.interp(percent / 100, midpoints, [v for v, _ in pairs])
