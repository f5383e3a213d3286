"""Bavlo turns gridded climate data into per-region numbers that an analyst can defend."""

__version__ = "0.1.0"
