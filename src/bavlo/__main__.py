"""`python -m bavlo`."""

from bavlo.cli.main import entry

entry()
