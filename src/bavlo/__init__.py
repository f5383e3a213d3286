"""Bavlo turns gridded climate data into per-region numbers that an analyst can defend."""

__all__ = ["__version__"]
__version__ = "0.1.0"
