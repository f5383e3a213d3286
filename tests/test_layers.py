"""Imports go one way, and heavy libraries are loaded only where they are used."""

import ast
import re
import subprocess
import sys
from graphlib import TopologicalSorter
from pathlib import Path

import bavlo

ROOT = Path(bavlo.__file__).parent
# What each folder may import, besides itself; a folder stands below all that
# import it.
MAY_IMPORT = {
    "errors": set(),
    "files": {"errors"},
    "kept": {"errors"},
    "remembered": set(),
    "held": {"errors"},
    "sheets": {"errors", "files", "held"},
    "compiled": {"kept", "remembered"},
    "core": {"errors", "compiled"},
    "tables": {"core", "errors", "files", "held", "sheets", "grids"},
    "grids": {"core", "compiled", "errors", "files", "held", "kept", "remembered"},
    "regions": {"core", "errors", "files", "held", "kept", "sheets", "grids"},
    "engine": {"core", "compiled", "errors", "grids"},
    "figures": {"core", "errors", "tables"},
    "request": {"core", "errors", "files", "held", "grids", "regions", "engine"},
    "jobs": {
        "core",
        "held",
        "kept",
        "errors",
        "files",
        "grids",
        "regions",
        "tables",
        "engine",
        "request",
        "figures",
        "remembered",
        "sheets",
    },
    "demo": {"core", "errors", "grids", "regions"},
}
MAY_IMPORT["cli"] = {*MAY_IMPORT["jobs"], "jobs", "demo"}
# What is named in a table and loaded when it is used.
BY_NAME = {"request": {"figures"}, "figures": {"figures"}}


def imports(path):
    """Modules that a file imports, in whatever form, with whether only a type checker sees it."""
    tree = ast.parse(path.read_text())
    typing_only = {
        id(inner)
        for node in ast.walk(tree)
        if isinstance(node, ast.If) and "TYPE_CHECKING" in ast.dump(node.test)
        for inner in ast.walk(node)
    }
    for node in ast.walk(tree):
        if isinstance(node, ast.ImportFrom):
            base = node.module or ""
            if node.level:  # relative to the file's own folder
                parts = path.relative_to(ROOT.parent).parts[: -node.level]
                base = ".".join([*parts, *filter(None, [base])])
            if base.split(".")[0] == "bavlo":
                names = [f"{base}.{alias.name}" for alias in node.names]
                yield from ((name, id(node) in typing_only) for name in names)
        elif isinstance(node, ast.Import):
            names = [a.name for a in node.names if a.name.startswith("bavlo.")]
            yield from ((name, id(node) in typing_only) for name in names)
        elif (
            isinstance(node, ast.Constant)
            and isinstance(node.value, str)
            and re.fullmatch(r"\|?bavlo(\.\w+)+(:\w+)?", node.value)
        ):
            yield node.value.strip("|").partition(":")[0] + ".by_name", False


def room_of(module):
    parts = module.split(".")
    return parts[1] if len(parts) > 1 and parts[1] != "__version__" else None


def test_imports_go_from_the_command_line_to_the_core_and_never_back():
    wrong = []
    for folder, allowed in MAY_IMPORT.items():
        files = (
            [ROOT / f"{folder}.py"]
            if folder in ("records", "errors", "files", "kept")
            else (ROOT / folder).rglob("*.py")
        )
        for path in files:
            for module, _ in imports(path):
                room = room_of(module)
                by_name = module.endswith("by_name") and room in BY_NAME.get(folder, ())
                if room not in {None, "records", folder, *allowed} and not by_name:
                    wrong.append(f"{path.relative_to(ROOT)} imports {module}")
    assert not wrong
    assert {path.name for path in ROOT.iterdir() if path.name.isalnum() and path.is_dir()} <= {
        *MAY_IMPORT
    }


def test_no_files_import_one_another_in_a_circle():
    files = {
        ".".join(path.relative_to(ROOT.parent).with_suffix("").parts): path
        for path in ROOT.rglob("*.py")
    }

    def module_of(name):
        """The file that an imported name stands in."""
        return next((n for n in (name, name.rpartition(".")[0]) if n in files), None)

    graph = {
        name: {
            module_of(found)
            for found, typing_only in imports(path)
            if not typing_only and not found.endswith("by_name")
        }
        - {None, name}
        for name, path in files.items()
    }
    TopologicalSorter(graph).prepare()  # raises CycleError, which names the files


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
