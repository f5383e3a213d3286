"""The notebook of the documentation runs from top to bottom on the demo data."""

import os
from pathlib import Path

import pytest

NOTEBOOK = Path(__file__).parent.parent / "docs" / "notebook.ipynb"


@pytest.mark.slow
def test_the_notebook_runs_and_ends_with_a_figure(demo, tmp_path):
    nbclient, nbformat = pytest.importorskip("nbclient"), pytest.importorskip("nbformat")
    (tmp_path / "sorrel").symlink_to(demo)
    os.environ.setdefault("PYDEVD_DISABLE_FILE_VALIDATION", "1")
    book = nbformat.read(NOTEBOOK, as_version=4)
    assert not any(cell.get("outputs") for cell in book.cells)  # nothing of a run is kept
    client = nbclient.NotebookClient(
        book, timeout=120, kernel_name="python3", resources={"metadata": {"path": str(tmp_path)}}
    )
    client.execute()
    said = [output for cell in book.cells for output in cell.get("outputs", ())]
    printed = "".join(output.get("text", "") for output in said)
    assert "True 31 days, " in printed
    assert printed.count(" %, rank ") == 5
    assert any("<table>" in output.get("data", {}).get("text/html", "") for output in said)
    assert "image/png" in book.cells[-1].outputs[-1]["data"]
