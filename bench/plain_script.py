"""What an analyst writes by hand: cell centres in or out, and a mean for each region and step.

Usage: plain_script.py GRID.nc REGIONS.gpkg OUT.csv
"""

import sys

import netCDF4
import numpy as np
import pandas as pd
import pyogrio
import shapely


def main():
    """Monthly totals of the mean over the cell centres in each region."""
    grid, regions, out = sys.argv[1:]
    frame = pyogrio.raw.read(regions, columns=["name"])
    shapes, names = shapely.from_wkb(frame[2]), frame[3][0]
    with netCDF4.Dataset(grid) as data:
        lon, lat = np.meshgrid(data["lon"][:], data["lat"][:])
        centres = shapely.points(lon.ravel(), lat.ravel())
        masks = [shapely.contains(shape, centres).reshape(lon.shape) for shape in shapes]
        dates = pd.to_datetime("1991-01-01") + pd.to_timedelta(data["time"][:], "D")
        rain = data["rain"]
        means = np.empty((rain.shape[0], len(shapes)))
        for step in range(rain.shape[0]):
            field = np.ma.filled(rain[step].astype(float), np.nan)
            for r, mask in enumerate(masks):
                means[step, r] = np.nanmean(field[mask])
    table = pd.DataFrame(means, index=dates, columns=names).resample("MS").sum()
    table.to_csv(out)


if __name__ == "__main__":
    main()
