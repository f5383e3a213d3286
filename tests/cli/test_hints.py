"""What is misspelt is answered with the nearest; what is asked about is explained."""

import os
import subprocess

import pytest

from bavlo.cli.topics import TOPICS, text_of
from bavlo.errors import known_words
from support import PROGRAM, box, run, write_grid, write_regions


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    folder = tmp_path_factory.mktemp("hints")
    told = {"cell_methods": "time: sum"}
    write_grid(folder / "rain.nc", [[[1.0, 2], [3, 4]]] * 40, attributes=told)
    shapes = {"Upper Corran": box(0, 0, 1, 2), "Ombrel": box(1, 0, 2, 2)}
    write_regions(folder / "w.geojson", shapes)
    run("series", "rain.nc", "--regions", "w.geojson", "--every", "month", "--out", "t.csv",
        cwd=folder)  # fmt: skip
    return folder


SERIES = ["series", "rain.nc", "--regions", "w.geojson"]
MAP = ["map", "t.csv", "--regions", "w.geojson"]


@pytest.mark.parametrize(
    ("words", "hint"),
    [
        (["seres"], "series"),
        (["series", "rain.nc", "--regons", "w.geojson"], "--regions"),
        ([*SERIES, "--only", "Ombrell"], "Ombrel"),
        ([*SERIES, "--variable", "rane"], "rain"),
        ([*SERIES, "--label", "nmae"], "name"),
        ([*SERIES, "--measure", "medain"], "median"),
        ([*SERIES, "--every", "mnth"], "month"),
        ([*SERIES, "--unit", "inchs"], "inch"),
        (["extremes", *SERIES[1:], "--when", "> 1 mm", "--count", "dais"], "days"),
        (["extremes", *SERIES[1:], "--index", "rx5dy"], "Rx5day"),
        ([*MAP, "--column", "valeu", "--out", "m.png"], "value"),
        ([*MAP, "--period", "2001-1", "--out", "m.png"], "2001-01"),
        (["chart", "t.csv", "--figure", "totls", "--out", "m.png"], "totals"),
        (["chart", "t.csv", "--pick", "mesure=mean", "--out", "m.png"], "measure"),
        (["help", "periodes"], "periods"),
    ],
)  # fmt: skip
def test_what_is_misspelt_is_answered_with_the_nearest(folder, words, hint):
    done = run(*words, cwd=folder, check=False)
    assert done.returncode != 0
    assert done.stderr.count("\n") == 1
    assert done.stderr.endswith(f"did you mean {hint}?\n")


def test_words_that_are_like_nothing_get_no_hint():
    assert known_words("zzz", ["mean", "max"]) == "it has: mean, max"
    assert known_words("x", []) == "it has: none"
    assert known_words("a", [f"n{n}" for n in range(99)]).count("n") == 30


def test_regions_may_be_written_in_any_case_where_that_leaves_no_doubt(folder):
    done = run(*SERIES, "--only", "OMBREL", "--out", "-", "--every", "month", cwd=folder)
    assert done.stdout.count("Ombrel") == 1 + done.stdout.count("Ombrel,2001-02")


def test_a_bad_unit_of_the_output_is_not_answered_with_that_of_the_file(folder):
    done = run(*SERIES, "--unit", "wibbles", cwd=folder, check=False)
    assert "--unit: 'wibbles' is no unit" in done.stderr
    assert "--input-unit" not in done.stderr


def test_commands_of_one_table_say_so(folder):
    (folder / "u.csv").write_bytes((folder / "t.csv").read_bytes())
    done = run("anomalies", "t.csv", "u.csv", cwd=folder, check=False)
    assert done.stderr == "bavlo: anomalies takes one table; give one at a time\n"


@pytest.mark.parametrize("topic", TOPICS)
def test_every_topic_is_explained_from_the_pages_of_the_docs(topic, capsys, monkeypatch):
    monkeypatch.setenv("COLUMNS", "80")
    text = text_of(TOPICS[topic])
    assert len(text.splitlines()) > 5
    assert "](" not in text
    done = run("help", topic)
    assert len(done.stdout.splitlines()) > 5
    assert max(map(len, done.stdout.splitlines())) <= 100
    assert "\033" not in done.stdout


def test_help_lists_commands_and_topics_and_shows_those_of_commands():
    listed = run("help").stdout
    assert all(f"\n  {topic}" in listed for topic in TOPICS)
    assert run("help", "series").stdout == run("series", "--help").stdout


def completed(line, cwd):
    """What the shell is told may stand at the end of a line."""
    out = cwd / "completed.txt"
    own = {"_ARGCOMPLETE": "1", "_ARGCOMPLETE_IFS": "\n", "COMP_LINE": line, "COMP_TYPE": "9",
           "COMP_POINT": str(len(line)), "_ARGCOMPLETE_STDOUT_FILENAME": str(out)}  # fmt: skip
    subprocess.run([PROGRAM], env={**os.environ, **own}, cwd=cwd, check=False, capture_output=True)
    return [word.strip() for word in out.read_text().split("\n") if word.strip()]


@pytest.mark.slow
def test_commands_options_regions_and_variables_complete(folder):
    pytest.importorskip("argcomplete")
    assert completed("bavlo se", folder) == ["series"]
    found = completed("bavlo series rain.nc --mea", folder)
    assert found == ["--measure"]
    line = "bavlo series rain.nc --regions w.geojson --only "
    assert "Ombrel" in completed(line + "Om", folder)
    assert completed("bavlo series rain.nc --variable ", folder) == ["rain"]
    assert completed("bavlo series x --measure me", folder) == ["mean", "median"]
    assert completed("bavlo trace t.csv --region Om", folder) == ["Ombrel"]
    for shell in ("bash", "zsh", "fish"):
        assert "bavlo" in run("completion", shell).stdout


def test_figures_are_told_in_words_and_drawn_in_a_size(folder, tmp_path):
    out = tmp_path / "o.csv"
    run("series", folder / "rain.nc", "--regions", folder / "w.geojson", "--out", out)
    said = run("chart", out, "--describe").stdout
    assert said.startswith("Series of rain in ")
    assert "The value is highest " in said
    picture = tmp_path / "a.png"
    words = ["map", out, "--regions", folder / "w.geojson", "--describe"]
    said = run(*words, "--size", "640x480", "--out", picture).stdout
    assert " regions. The highest value is " in said
    from PIL import Image

    assert Image.open(picture).size == (640, 480)
    done = run(*words, "--size", "640", "--out", picture, check=False)
    assert "'640' is no size; write it as WIDTHxHEIGHT" in done.stderr
