"""Imports go one way, and heavy libraries are loaded only where they are used."""

import ast
import subprocess
import sys
from pathlib import Path

import bavlo

ROOT = Path(bavlo.__file__).parent
MAY_IMPORT = {
    "core": {"core"},
    "formats": {"core", "formats"},
    "engine": {"core", "engine"},
    "figures": {"core", "formats", "figures"},
    "study": {"core", "formats", "engine", "figures", "study"},
    "demo": {"core", "formats", "demo"},
    "cli": {"core", "formats", "engine", "figures", "study", "demo", "cli"},
}


def imports(path):
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("bavlo."):
            yield node.module.split(".")[1]
        elif isinstance(node, ast.Import):
            yield from (a.name.split(".")[1] for a in node.names if a.name.startswith("bavlo."))


def test_imports_go_from_the_command_line_to_the_core_and_never_back():
    wrong = [
        f"{path.relative_to(ROOT)} imports {room}"
        for folder, allowed in MAY_IMPORT.items()
        for path in (ROOT / folder).rglob("*.py")
        for room in imports(path)
        if room not in allowed
    ]
    assert not wrong


def loaded(*arguments):
    code = (
        "import sys; from bavlo.cli.main import main; "
        f"main({list(map(str, arguments))!r}); print(*sys.modules, file=sys.stderr)"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    return set(done.stderr.split())


def test_help_loads_no_library_and_a_table_no_drawing(demo):
    heavy = {"numpy", "scipy", "pandas", "matplotlib", "netCDF4", "shapely", "pyproj", "pyogrio"}
    assert not loaded("--help") & heavy
    assert not loaded("--version") & heavy
    modules = loaded(
        "series",
        demo / "monthly_rain.nc",
        "--regions",
        demo / "watersheds.geojson",
        "--every",
        "year",
    )
    assert "numpy" in modules
    assert not modules & {"matplotlib", "rasterio"}
