"""Outputs get their names together, whatever happens meanwhile."""

import errno
import json
import os
import re
import subprocess
import sys

import numpy as np
import pytest

from bavlo import files as placing
from bavlo.errors import OutputError
from bavlo.files import whole_files
from bavlo.grids.writing import ENDINGS as GRIDS
from bavlo.jobs.writing import check_outputs
from bavlo.tables.formats import ENDINGS as TABLES
from support import box, write_grid, write_regions

KILLED = """
import os, sys
from pathlib import Path
from bavlo import files as placing

names, stop, replace = sys.argv[1].split(","), int(sys.argv[2]), sys.argv[3] == "replace"
place = placing._place
count = 0

def dying(draft, path, *, replace):
    global count
    if count == stop:
        os._exit(9)
    count += 1
    place(draft, path, replace=replace)

placing._place = dying
with placing.whole_files([Path(name) for name in names], replace=replace) as drafts:
    for path, draft in drafts.items():
        draft.write_text("new " + path.name)
    if stop < 0:
        os._exit(9)
"""


def killed(folder, names, stop, replace):
    ended = subprocess.run(
        [sys.executable, "-c", KILLED, ",".join(names), str(stop), replace], cwd=folder
    )
    assert ended.returncode == 9


def contents(folder):
    return {path.name: path.read_text() for path in folder.iterdir()}


NAMES = ["a.csv", "a.csv.about.json", "b.png"]


@pytest.mark.parametrize("stop", [0, 1, 2])
@pytest.mark.parametrize("replace", ["replace", "fresh"])
def test_what_a_kill_between_two_moves_left_is_finished_by_the_next_run(tmp_path, stop, replace):
    if replace == "replace":
        for name in NAMES:
            (tmp_path / name).write_text("old")
    killed(tmp_path, NAMES, stop, replace)
    with whole_files([tmp_path / "c.csv"], replace=False) as drafts:
        drafts[tmp_path / "c.csv"].write_text("c")
    assert contents(tmp_path) == {**{name: f"new {name}" for name in NAMES}, "c.csv": "c"}


def test_drafts_of_a_run_that_was_killed_while_it_wrote_are_removed(tmp_path):
    (tmp_path / "a.csv").write_text("old")
    killed(tmp_path, NAMES, -1, "replace")
    assert len(contents(tmp_path)) == 4
    placing.put_right(tmp_path)
    assert contents(tmp_path) == {"a.csv": "old"}


def test_drafts_of_runs_that_go_on_or_are_elsewhere_stay(tmp_path):
    own = tmp_path / f".{placing._host()}-{os.getppid()}.0.part.csv"
    elsewhere = tmp_path / ".00000000-999999.0.part.csv"
    for path in (own, elsewhere):
        path.write_text("x")
    placing.put_right(tmp_path)
    assert own.exists()
    assert elsewhere.exists()


@pytest.mark.parametrize("links", [True, False])
def test_a_file_that_appeared_meanwhile_stays_and_is_an_error(tmp_path, links, monkeypatch):
    if not links:

        def no_links(*_):
            raise OSError(errno.EPERM, "no links here")

        monkeypatch.setattr(os, "link", no_links)
    one, other = tmp_path / "a.csv", tmp_path / "b.csv"

    def write():
        with whole_files([one, other], replace=False) as drafts:
            for draft in drafts.values():
                draft.write_text("mine")
            other.write_text("of another run")

    with pytest.raises(OutputError, match="was made by another run meanwhile"):
        write()
    assert contents(tmp_path) == {"b.csv": "of another run"}
    other.unlink()
    with whole_files([one, other], replace=False) as drafts:
        for draft in drafts.values():
            draft.write_text("mine")
    assert contents(tmp_path) == {"a.csv": "mine", "b.csv": "mine"}


def test_an_about_file_is_not_overwritten_without_being_asked(tmp_path):
    (tmp_path / "a.csv.about.json").write_text("{}")
    with pytest.raises(OutputError, match=r"a\.csv\.about\.json: exists already"):
        check_outputs([tmp_path / "a.csv"], replace=False)
    check_outputs([tmp_path / "a.csv"], replace=True)


def test_names_that_cannot_be_are_refused_before_any_work(tmp_path):
    with pytest.raises(OutputError, match="has too long a name"):
        check_outputs([tmp_path / ("x" * 250 + ".csv")], replace=False)
    link = tmp_path / "link.csv"
    link.symlink_to(tmp_path / "nowhere")
    for replace in (False, True):
        with pytest.raises(OutputError, match="is a link to a file that is not there"):
            check_outputs([link], replace=replace)


def test_a_damaged_journal_is_no_reason_to_fail(tmp_path):
    killed(tmp_path, NAMES, 1, "fresh")
    (journal,) = tmp_path.glob("*.journal")
    assert json.loads(journal.read_text())["replace"] is False
    journal.write_text('{"replace": fal')
    placing.put_right(tmp_path)
    assert contents(tmp_path) == {"a.csv.about.json": "new a.csv.about.json"}


def test_any_fault_of_a_library_on_a_full_disk_is_told_as_that(tmp_path, monkeypatch):
    def write():
        with whole_files([tmp_path / "x.nc"], replace=False) as drafts:
            for draft in drafts.values():
                draft.write_text("half")
            raise RuntimeError("NetCDF: HDF error")

    with pytest.raises(RuntimeError, match="HDF"):
        write()
    full = OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))
    monkeypatch.setattr(placing, "refused_writing", lambda path: full)
    with pytest.raises(OutputError, match=r"x\.nc: cannot be written \(the disk is full\)"):
        write()
    assert not list(tmp_path.iterdir())


LIMITED = """
import resource, sys
from bavlo.cli.main import main

_, most = resource.getrlimit(resource.RLIMIT_FSIZE)
resource.setrlimit(resource.RLIMIT_FSIZE, (512, most))
status = main(sys.argv[1:])
resource.setrlimit(resource.RLIMIT_FSIZE, (most, most))
sys.exit(status)
"""


def limited(folder, *words):
    """A command whose files may have 512 bytes at most, as on a disk that is full."""
    return subprocess.run(
        [sys.executable, "-c", LIMITED, *words], cwd=folder, capture_output=True, text=True
    )


@pytest.mark.parametrize(
    ("command", "ending"),
    [*(("grid", ending) for ending in GRIDS), *(("series", ending) for ending in TABLES)],
)
def test_an_output_for_which_there_is_no_room_is_one_line_and_leaves_nothing(
    tmp_path, command, ending
):
    write_grid(tmp_path / "rain.nc", np.random.default_rng(1).gamma(0.5, 8, (90, 12, 12)))
    write_regions(tmp_path / "r.geojson", {"a": box(1, 1, 6, 5), "b": box(3.5, 2, 9, 8)})
    regions = ["--regions", "r.geojson"] if command == "series" else []
    before = {path.name: path.read_bytes() for path in tmp_path.iterdir()}
    words = [command, "rain.nc", *regions, "--every", "month", "--out", f"o{ending}", "--quiet"]
    ended = limited(tmp_path, *words)
    assert ended.returncode == 1
    assert re.fullmatch(
        rf"bavlo: o{re.escape(ending)}(\.about\.json)?: cannot be written \(File too large\); "
        "check the disk and its permissions\n",
        ended.stderr,
    ), ended.stderr
    assert {path.name: path.read_bytes() for path in tmp_path.iterdir()} == before


def test_what_a_library_kept_beside_a_draft_goes_with_it(tmp_path):
    # As a spreadsheet's rows, where the interrupt comes while their folder is being removed.
    def write():
        with whole_files([tmp_path / "t.xlsx"], replace=False) as drafts:
            (draft,) = drafts.values()
            waiting = draft.with_name(f"{draft.name}-rows")
            waiting.mkdir()
            (waiting / "1").touch()
            raise KeyboardInterrupt

    with pytest.raises(KeyboardInterrupt):
        write()
    assert not list(tmp_path.iterdir())
