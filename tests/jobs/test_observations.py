"""Tables of observations: what they hold is understood by the rules of grids, and said."""

import json

import numpy as np
import pytest

from support import run

MONTHS = [f"{year}-{month:02}" for year in range(1991, 2021) for month in range(1, 13)]
RAIN = np.round(np.random.default_rng(5).gamma(2, 40, len(MONTHS)), 1)
GAPS = (3, 40, 41, 200)


def write(path, mark, head="station,date,rain,unit", unit="mm", values=RAIN):
    lines = [head]
    for n, (month, value) in enumerate(zip(MONTHS, values, strict=True)):
        lines.append(f"A,{month},{mark if n in GAPS else value},{unit}")
    path.write_text("\n".join(lines) + "\n")
    return path


COMMANDS = {
    "normals": ["--base", "1991..2020"],
    "anomalies": ["--base", "1991..2020"],
    "trends": ["--every", "year", "--min-steps", "0.9"],
}


@pytest.mark.parametrize("command", COMMANDS)
@pytest.mark.parametrize(
    "mark", ["-9999", "-9999.0", "-8888", "-32768", "-999", "-999.9", "-99.9", "NA", "-"]
)
def test_marks_of_no_data_are_left_out_and_said_in_words_and_provenance(tmp_path, command, mark):
    plain, marked = write(tmp_path / "a.csv", ""), write(tmp_path / "b.csv", mark)
    options = COMMANDS[command]
    run(command, plain, *options, "--out", tmp_path / "plain.csv")
    options = [*options, "--verbose"]
    said = run(command, marked, *options, "--out", tmp_path / "marked.csv").stderr
    assert (tmp_path / "marked.csv").read_text() == (tmp_path / "plain.csv").read_text()
    assert (f"'{mark}' (4)" if mark in ("NA", "-") else "is taken for missing") in said
    about = json.loads((tmp_path / "marked.csv.about.json").read_text())
    assert list(about["inputs"][0]["no_data"].values()) == [len(GAPS)]


def test_marks_that_may_be_values_are_asked_about(tmp_path):
    cold = np.round(np.random.default_rng(6).normal(10, 4, len(MONTHS)), 1)
    table = write(tmp_path / "t.csv", "-99.9", unit="degC", values=cold)
    base = ("--base", "1991..2020", "--out", tmp_path / "n.csv", "--replace")
    asked = run("normals", table, *base, check=False)
    assert asked.returncode == 1
    assert "say --missing -99.9 if it means no data, or --missing none" in asked.stderr
    run("normals", table, *base, "--missing", "-99.9")
    assert "-99.9" in (tmp_path / "n.csv.about.json").read_text()
    left_out = float((tmp_path / "n.csv").read_text().splitlines()[7].split(",")[8])
    run("normals", table, *base, "--missing", "none")
    kept = float((tmp_path / "n.csv").read_text().splitlines()[7].split(",")[8])
    assert kept < left_out - 2


def test_comparing_leaves_out_what_the_user_names(tmp_path):
    table = write(tmp_path / "gauge.csv", "7777")
    other = write(tmp_path / "other.csv", RAIN[GAPS[0]])
    out = ("--out", tmp_path / "c.csv", "--replace")
    for options in (["--missing", "7777"], ["--missing", "gauge=7777"]):
        run("compare", f"gauge={table}", f"other={other}", *options, *out)
        rows = (tmp_path / "c.csv").read_text().splitlines()
        bias = next(row for row in rows if ",all," in row and ",bias," in row).split(",")
        assert float(bias[rows[0].split(",").index("value")]) == 0


def test_rain_below_0_is_called_out(tmp_path):
    values = RAIN.copy()
    values[10] = -4.5
    said = run("normals", write(tmp_path / "t.csv", "", values=values), "--base", "1991..2020")
    assert "values down to -4.5 mm, which rain never is" in said.stderr


@pytest.mark.parametrize("head", ["region,period,value,unit", "region,period,rain (mm),unit"])
def test_heads_of_ones_own_are_read_whatever_they_begin_with(tmp_path, head):
    done = run("normals", write(tmp_path / "t.csv", "", head), "--base", "1991..2020")
    assert "12 periods" in done.stdout


@pytest.mark.parametrize(
    ("option", "said"),
    [
        (["--dates", "rain_%Y"], "does not hold a date as --dates rain_%Y describes it"),
        (["--variable", "x"], "has no column of values 'x'"),
        (["--order", "cell"], "is a table"),
    ],
)
def test_options_that_change_nothing_of_observations_are_refused(tmp_path, option, said):
    done = run("normals", write(tmp_path / "t.csv", ""), *option, check=False)
    assert (done.returncode > 0, said in done.stderr) == (True, True)
