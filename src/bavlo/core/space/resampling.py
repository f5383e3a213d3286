"""The names of the ways in which values are brought onto other cells."""

AREA = "area"
NEAREST = "nearest"
MAJORITY = "majority"
LINEAR = "linear"
CUBIC = "cubic"
RESAMPLE = (AREA, NEAREST, MAJORITY, LINEAR, CUBIC)
