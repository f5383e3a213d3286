"""Words on the screen: progress, warnings, previews, errors, and how a command line is read."""

import errno
import io
import json
import os
import re
import runpy
import signal
import subprocess
import sys
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
import rasterio
from rasterio.transform import from_origin

from bavlo.cli.endings import Stopped, status_of, without_echoes
from bavlo.cli.main import COMMANDS, main
from bavlo.cli.parsing import Parser, add_options
from bavlo.cli.preview import aligned, preview
from bavlo.cli.screen import MOST_WARNINGS, Screen
from bavlo.errors import RequestError, in_one_line
from bavlo.files import unreadable
from bavlo.tables.schema import SERIES
from support import PROGRAM, box, program, run, write_grid, write_regions


class Terminal(io.StringIO):
    """A stream that says it is a terminal."""

    def isatty(self):
        return True


def table(regions, periods):
    rng = np.random.default_rng(1)
    shape = (regions, periods, 1)
    return SERIES.table(
        {
            "region": [f"Region {n}" for n in range(regions)],
            "period": [str(1990 + n) for n in range(periods)],
            "start": [f"{1990 + n}-01-01" for n in range(periods)],
            "end": [f"{1990 + n}-12-31" for n in range(periods)],
            "variable": "rain",
            "measure": ["mean"],
            "value": rng.random(shape) * 1000,
            "unit": ["mm"],
            "combine": "total",
            "order": ["region"],
            "area_valid": np.ones(shape),
            "steps": np.full(shape[:2], 365.0),
            "steps_expected": np.full(periods, 365.0),
            "note": np.full(shape, "", object),
        }
    )


def test_warnings_are_said_once_counted_and_kept():
    stream = io.StringIO()
    screen = Screen(stream=stream)
    for n in range(MOST_WARNINGS + 3):
        screen.warn(f"doubt {n}; use ‹min_steps 0.9›")
        screen.warn(f"doubt {n}; use ‹min_steps 0.9›")
    screen.finish()
    said = stream.getvalue().splitlines()
    assert len(said) == MOST_WARNINGS + 1
    assert said[0] == "bavlo: warning: doubt 0; use --min-steps 0.9"
    assert said[-1].startswith("bavlo: 3 more warnings")
    assert len(screen.warnings) == MOST_WARNINGS + 3
    assert all("‹" not in text for text in screen.warnings)


def test_notes_are_for_those_who_ask_for_them():
    for settings, said in (({}, ""), ({"verbose": True}, "a choice behind --every\n")):
        stream = io.StringIO()
        Screen(stream=stream, **settings).note("a choice behind ‹every›")
        assert stream.getvalue() == said


def test_how_long_each_stage_took_is_told_when_asked_for():
    for settings, lines in (({}, 0), ({"verbose": True}, 2), ({"verbose": True, "quiet": True}, 0)):
        stream = io.StringIO()
        screen = Screen(stream=stream, **settings)
        for name in ("opening", "reading"):
            screen.stage(name)
        screen.finish()
        said = stream.getvalue().splitlines()
        assert len(said) == lines
        assert [line.partition(":")[0] for line in said] == ["opening", "reading"][:lines]


def test_progress_is_a_bar_on_a_terminal_and_a_line_now_and_then_elsewhere():
    stream = io.StringIO()
    screen = Screen(stream=stream)
    screen.progress(1, 10)
    assert stream.getvalue() == ""
    screen._last -= 31
    screen.progress(2, 10)
    assert stream.getvalue() == "bavlo: 2 of 10 steps\n"
    screen.stage("reading")
    screen._began -= 80
    screen._last -= 31
    screen.progress(4, 10)
    assert stream.getvalue().splitlines()[-1] == "bavlo: reading: 4 of 10 steps, about 2 min left"
    terminal = Terminal()
    screen = Screen(stream=terminal)
    for done, total in ((1, 4), (4, 4), (1, 2), (2, 2)):  # a second loop has a bar of its own
        screen.progress(done, total)
    assert screen._bar is None
    quiet = Screen(quiet=True, stream=Terminal())
    quiet.progress(1, 4)
    assert quiet.stream.getvalue() == ""


@pytest.mark.parametrize(("regions", "periods"), [(1, 1), (2, 3), (3, 200)])
def test_a_preview_shows_both_ends_and_tells_what_is_the_same_once(regions, periods, monkeypatch):
    monkeypatch.setenv("COLUMNS", "90")
    lines = preview(table(regions, periods)).splitlines()
    assert all(len(line) <= 90 for line in lines)
    text = "\n".join(lines)
    assert "Region 0" in text
    assert f"{1990 + periods - 1}" in text
    if regions * periods > 1:
        assert "variable rain" in text
        assert lines.count("…") <= 1
        assert sum(line.startswith("…") for line in lines) == (regions * periods > 12)


def test_columns_are_cut_to_the_width_and_numbers_stand_to_the_right():
    rows = [["name", "value"], ["a rather long name of a region", "1"], ["b", "22.5"]]
    lines = aligned(rows, [True, False], 24)
    assert all(len(line) <= 24 for line in lines)
    assert lines[1].startswith("a rather")
    assert "…" in lines[1]
    assert lines[2].endswith("22.5")


@pytest.mark.parametrize(
    ("arguments", "status", "said"),
    [
        (["fly"], 2, "'fly' is no command; use one of: demo, describe"),
        (["series", "--fly"], 2, "unrecognized arguments: --fly; see `bavlo series --help`"),
        (["series", "--mea", "mean"], 2, "there is no option --mea; did you mean --measure?"),
        (["series"], 2, "no grid was given"),
        (["series", "none.nc", "--regions", "r.geojson"], 1, "there is no such file"),
        (["grid", "none.nc"], 2, "no file was named; give a .nc or .tif"),
        (["chart", "none.csv"], 1, "there is no such file"),
        (["map"], 2, "required"),
        (["describe", "none.nc"], 1, "there is no such file"),
    ],
)
def test_a_wrong_call_is_one_line_and_an_exit_status(arguments, status, said):
    done = run(*arguments, check=False)
    assert done.returncode == status
    assert said in done.stderr
    assert done.stderr.startswith("bavlo: ")
    assert done.stderr.count("\n") == 1


def test_help_and_version_are_there_without_a_command(capsys):
    assert main([]) == 0
    said = capsys.readouterr().out
    assert all(f"  {name}" in said for name in COMMANDS)
    assert main(["--version"]) == 0
    assert capsys.readouterr().out.startswith("bavlo ")


def test_interrupts_and_full_pipes_end_with_their_own_status(monkeypatch, capsys):
    from bavlo.cli import cache

    def stop(command, arguments):
        raise KeyboardInterrupt

    def full(command, arguments):
        raise MemoryError

    monkeypatch.setattr(cache, "run", stop)
    assert main(["cache"]) == 130
    assert "interrupted; nothing was written" in capsys.readouterr().err
    monkeypatch.setattr(cache, "run", full)
    assert main(["cache"]) == 1
    assert "out of memory" in capsys.readouterr().err


def test_positionals_and_options_mix_and_negative_values_need_no_sign_between():
    parser = Parser("describe")
    parser.add_argument("files", nargs="+")
    add_options(parser, "describe")
    given = parser.read(["a.nc", "--at", "-71.5,-33", "b.nc", "--scale", "-3e2", "--strict"])
    assert given["files"] == ["a.nc", "b.nc"]
    assert given["at"] == "-71.5,-33"
    assert given["scale"] == ["-3e2"]
    assert given["strict"] is True
    with pytest.raises(RequestError, match="expected one argument"):
        parser.read(["a.nc", "--at"])


def test_the_whole_table_goes_to_standard_output_where_that_is_asked_for(tmp_path):
    grid = write_grid(tmp_path / "rain.nc", np.ones((31, 2, 2)))
    regions = write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 1, 1)})
    done = run("series", grid, "--regions", regions, "--out", "-")
    lines = done.stdout.splitlines()
    assert lines[0].startswith("region,period,start,end")
    assert len(lines) == 2
    assert "1 row" in done.stderr
    both = run("series", grid, "--regions", regions, "--out", "-", "--out", tmp_path / "x.csv")
    assert both.stdout == done.stdout == (tmp_path / "x.csv").read_text()
    lost = run("series", grid, "--regions", regions, "--format", "json", check=False)
    assert lost.returncode == 2
    assert "--format: is of the table that goes to standard output; add --out -" in lost.stderr


def test_the_cache_is_shown_and_cleared(tmp_path, monkeypatch):
    monkeypatch.setenv("BAVLO_CACHE", str(tmp_path))
    assert "0 entries, 0.0 MB" in run("cache").stdout
    (tmp_path / "a.overlay.npz").write_bytes(b"x" * 100_000)
    said = run("cache").stdout
    assert "1 entry, 0.1 MB" in said
    assert "1 overlays\n" in said
    assert "compiled loops" not in said
    assert "--clear" in said
    assert "removed 1 entry" in run("cache", "--clear").stdout
    assert not list(tmp_path.iterdir())


def test_what_stands_beside_an_output_says_how_it_came_to_be(tmp_path):
    grid = write_grid(tmp_path / "rain.nc", np.ones((59, 2, 2)))
    regions = write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 1, 1)})
    words = ["series", grid, "--regions", regions, "--every", "month", "--out", tmp_path / "o.csv"]
    run(*words)
    about = json.loads((tmp_path / "o.csv.about.json").read_text())
    assert about["request"]["grids"] == [{"name": None, "files": [str(grid)]}]
    assert about["request"]["regions"] == str(regions)
    assert "jobs" not in about["request"]
    assert [entry["file"] for entry in about["inputs"]] == [str(grid), str(regions)]
    first = [entry["metadata_sha256"] for entry in about["inputs"]]
    again = tmp_path / "o.csv.about.json"
    before = again.read_bytes()
    run(*words, "--replace", "--jobs", "3")
    assert again.read_bytes() == before
    write_regions(tmp_path / "r.geojson", {"b": box(0, 0, 1, 1)})
    run(*words, "--replace")
    second = [entry["metadata_sha256"] for entry in json.loads(again.read_text())["inputs"]]
    assert first[0] == second[0]
    assert first[1] != second[1]


def test_the_demo_refuses_a_folder_that_holds_other_things(tmp_path):
    (tmp_path / "mine.txt").write_text("x")
    for more in ([], ["--replace"]):
        done = run("demo", tmp_path, *more, check=False)
        assert done.returncode == 1
        assert "holds other things; name another folder" in done.stderr
    assert [path.name for path in tmp_path.iterdir()] == ["mine.txt"]
    done = run("demo", tmp_path / "mine.txt", check=False)
    assert "is not a folder" in done.stderr


def test_the_module_runs_as_the_program_does(monkeypatch, capsys):
    monkeypatch.setattr(sys, "argv", ["bavlo", "--version"])
    with pytest.raises(SystemExit) as end:
        runpy.run_module("bavlo", run_name="__main__")
    assert end.value.code == 0
    assert capsys.readouterr().out.startswith("bavlo ")


def test_no_input_forges_a_line_or_a_colour_of_a_message():
    from bavlo.errors import InputError

    error = InputError("a\nbavlo: all is well\x1b[31m", "is not\ttrue", "try \u202eit")
    said = error.text()
    assert said == "a\\nbavlo: all is well\\x1b[31m: is not\\ttrue; try \\u202eit"
    stream = io.StringIO()
    Screen(stream=stream).warn("one\ntwo")
    assert stream.getvalue() == "bavlo: warning: one\\ntwo\n"


@pytest.mark.parametrize(
    ("error", "status", "said"),
    [
        (OSError(errno.EMFILE, "x", "a.nc"), 1, "a.nc: too many files are open; raise the limit"),
        (OSError(errno.ENOSPC, "x"), 1, "the disk is full"),
        (MemoryError(), 1, "out of memory"),
        (KeyboardInterrupt(), 130, "interrupted; nothing was written"),
        (Stopped(signal.SIGTERM), 143, "stopped by SIGTERM; nothing was written"),
        (Stopped(signal.SIGHUP), 129, "stopped by SIGHUP; nothing was written"),
        (ZeroDivisionError("odd\nthing"), 1, "a fault in Bavlo (ZeroDivisionError: odd\\nthing)"),
    ],
)
def test_whatever_ends_a_command_is_one_line_and_a_status(error, status, said, capsys):
    assert status_of(error, verbose=False) == status
    lines = capsys.readouterr().err.splitlines()
    assert len(lines) == 1
    assert lines[0].startswith(f"bavlo: {said}")
    if "fault" in said:
        details = Path(re.search(r"details are in (\S+);", lines[0]).group(1))
        assert "ZeroDivisionError" in details.read_text()
        details.unlink()


def test_names_that_are_not_utf8_are_said_to_be_so(tmp_path):
    odd = tmp_path / os.fsdecode(b"caf\xe9.nc")
    odd.write_bytes(b"CDF\x01")
    for said in (tmp_path, odd):
        done = run("describe", said, check=False)
        assert done.returncode == 1
        assert "its name is not UTF-8; rename it, or make a link to it" in done.stderr


def test_a_file_that_may_not_be_opened_is_not_called_damaged(tmp_path, monkeypatch):
    path = tmp_path / "a.nc"
    path.write_bytes(b"")

    def refuse(*_, **__):
        raise OSError(errno.EMFILE, "Too many open files")

    monkeypatch.setattr(Path, "open", refuse)
    assert "too many files are open" in unreadable(path, RuntimeError("HDF error")).text()


def test_an_interrupt_says_whether_anything_was_written(tmp_path, monkeypatch, capsys):
    from bavlo.jobs import driver

    grid = write_grid(tmp_path / "rain.nc", np.ones((3, 2, 2)))
    write_regions(tmp_path / "r.geojson", {"a": box(0, 0, 2, 2)})
    words = ["series", str(grid), "--regions", str(tmp_path / "r.geojson"), "--every", "day"]
    write_all = driver.write_all

    def interrupted(request, result):
        if request.output.replace:
            write_all(request, result)
        raise KeyboardInterrupt

    monkeypatch.setattr(driver, "write_all", interrupted)
    for more, left in (([], "nothing was written"), (["--replace"], "whole by then is kept")):
        assert main([*words, "--out", str(tmp_path / "o.csv"), *more]) == 130
        assert left in capsys.readouterr().err
    assert (tmp_path / "o.csv").exists()


@pytest.mark.slow
def test_terminals_that_know_only_ascii_are_shown_what_they_can_and_data_is_whole(tmp_path):
    write_grid(tmp_path / "g.nc", np.ones((12, 4, 5)), attributes={"cell_methods": "time: sum"})
    write_regions(tmp_path / "r.geojson", {"Pür–gör": box(0, 0, 3, 3)})
    words = [PROGRAM, "series", "g.nc", "--regions", "r.geojson", "--every", "day"]
    ascii_only = {**os.environ, "PYTHONIOENCODING": "ascii", "LC_ALL": "C", "PYTHONUTF8": "0"}
    shown = subprocess.run(words, cwd=tmp_path, env=ascii_only, capture_output=True, check=True)
    assert b"Pur-gor" in shown.stdout
    assert b"1 region x 12 periods" in shown.stdout
    data = subprocess.run(
        [*words, "--out", "-"], cwd=tmp_path, env=ascii_only, capture_output=True, check=True
    )
    assert data.stdout.decode("utf-8").count("Pür–gör") == 12


def test_very_long_messages_lose_their_middle():
    told = in_one_line("head " + "x" * 100_000 + " tail")
    assert len(told) < 2100
    assert told.startswith("head")
    assert told.endswith("tail")


def test_echoes_of_refused_files_are_not_heard_and_other_faults_are(monkeypatch):
    heard = []
    monkeypatch.setattr(sys, "unraisablehook", heard.append)
    without_echoes()
    sys.unraisablehook(SimpleNamespace(exc_value=OSError(28, "No space left on device")))
    assert not heard
    fault = SimpleNamespace(exc_value=ValueError("x"))
    sys.unraisablehook(fault)
    assert heard == [fault]


def test_names_cannot_forge_lines_on_the_terminal(tmp_path):
    write_grid(tmp_path / "g.nc", np.ones((12, 4, 5)), attributes={"cell_methods": "time: sum"})
    write_regions(tmp_path / "r.geojson", {"a\x1b[2J\nwrote all": box(0, 0, 3, 3),
                                           "b": box(1, 1, 2, 2)})  # fmt: skip
    for words in (["series", "g.nc", "--regions", "r.geojson", "--every", "month"],
                  ["describe", "g.nc", "r.geojson"]):  # fmt: skip
        said = run(*words, cwd=tmp_path)
        assert "\x1b" not in said.stdout + said.stderr
        assert "\nwrote all" not in said.stdout
    assert (
        "\\x1b[2J\\nwrote all"
        in run("series", "g.nc", "--regions", "r.geojson", "--every", "month", cwd=tmp_path).stdout
    )


def test_what_libraries_say_of_a_file_by_themselves_is_not_heard(tmp_path):
    path = tmp_path / "a.tif"
    with rasterio.open(
        path, "w", driver="GTiff", width=4, height=4, count=1, dtype="float32",
        crs="EPSG:4326", transform=from_origin(80, -32, 1, 1),
    ) as data:  # fmt: skip
        data.write(np.ones((4, 4), "f4"), 1)
        data.update_tags(note="x")
    content = bytearray(path.read_bytes())
    # A tag and a type that no program knows, for the notes: the library says so on its own.
    place = content.index((42112).to_bytes(2, "little"), 8)
    content[place : place + 4] = b"\0\0\xff\0"
    path.write_bytes(content)
    write_regions(tmp_path / "r.geojson", {"a": box(80.5, -35.5, 83.5, -32.5)})
    words = ["series", "a.tif", "--regions", "r.geojson", "--kind", "state", "--input-unit", "mm"]
    ran = program(*words, "--quiet", cwd=tmp_path)
    assert ran.stderr == ""
