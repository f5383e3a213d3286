"""One table of options: requests, their defaults, what was asked, and the words of the help."""

import re
from importlib import import_module

import pytest

from bavlo.cli.main import COMMANDS
from bavlo.cli.parsing import as_option
from bavlo.errors import BavloError, RequestError, setting, worded
from bavlo.request import options, parse
from bavlo.request.filling import asked, make_request
from bavlo.request.option import NAMES, names_listed
from bavlo.request.options import GROUPS, OPTIONS, options_of
from support import run


def field_of(request, name):
    for part in name.split("."):
        request = getattr(request, part)
    return request


def test_every_option_fills_a_field_that_there_is_and_is_for_commands_that_there_are():
    request = make_request("series", {})
    for option in OPTIONS:
        assert set(option.commands.split()) <= COMMANDS.keys()
        assert option.group in GROUPS
        if option.field:
            assert field_of(request, option.field) == option.usual(), option.name


def test_default_names_are_what_reading_them_gives():
    by_name = [option for option in options.OPTIONS if option.parse in NAMES]
    assert len(by_name) == len(NAMES)
    for option in by_name:
        assert option.usual() == option.read([option.default])


def test_no_option_stands_twice_for_a_command():
    for command in COMMANDS:
        names = [option.name for option in options_of(command)]
        assert len(names) == len(set(names))


@pytest.mark.parametrize(
    "table",
    sorted({t for option in OPTIONS for t in re.findall(r"\{(\S+?:\S+?)\}", option.help)}),
)
def test_the_names_in_the_help_are_those_of_the_table(table):
    module, _, name = table.partition(":")
    entries = getattr(import_module(module), name)
    assert names_listed(table).split() == list(entries)


@pytest.mark.parametrize(
    "command", [c for c in COMMANDS if c not in ("demo", "cache", "completion")]
)
def test_the_help_gives_every_option_with_its_default(command):
    said = run(command, "--help-all").stdout
    for option in options_of(command):
        assert f"--{option.name}" in said
    assert not re.search(r"\{\S*:", said)
    assert "examples on the demo data" in said


@pytest.mark.parametrize("command", [c for c in COMMANDS if options_of(c)])
def test_the_short_help_fits_a_screen_or_two_and_says_how_to_see_the_rest(command):
    said = run(command, "--help").stdout
    assert len(said.splitlines()) <= 65
    first = [option for option in options_of(command) if command in option.first.split()]
    assert len(first) in (0, *range(7, 11))
    shown = {
        option.name
        for option in options_of(command)
        if re.search(rf"^  --{option.name}\b(?!-)", said, re.MULTILINE)
    }
    assert shown == {option.name for option in first or options_of(command)}
    if first:
        left = len(options_of(command)) - len(first)
        assert f"{left} further options: bavlo {command} --help-all" in said


def test_what_was_asked_is_what_differs_from_the_defaults(tmp_path):
    (tmp_path / "a.nc").write_bytes(b"CDF\x01")
    plain = {"grids": [str(tmp_path / "a.nc")]}
    nothing = asked(make_request("series", plain))
    assert nothing == {
        "command": "series",
        "grids": [{"name": None, "files": [str(tmp_path / "a.nc")]}],
    }
    given = {
        **plain,
        "every": "JFM",
        "measure": ["mean,p90", "max"],
        "during": "2001..2003-04",
        "base": "1991..2020",
        "smooth": "15",
        "score": "spi",
        "statistic": ["p10"],
        "normals-from": "months",
        "wet-day": "2 mm",
        "when": ["rain >= 20 mm"],
        "scale": "0.1",
        "jobs": "3",
        "replace": True,
        "combine": "degree-days above 10 degC",
        "make": ["m = rain * 2"],
    }
    out = asked(make_request("anomalies", given))
    for name, value in (
        ("every", ["JFM"]),
        ("during", "2001..2003-04"),
        ("base", "1991..2020"),
        ("score", "spi"),
        ("smooth", 15),
    ):
        assert out[name] == value
    assert not {"jobs", "replace"} & out.keys()
    # Options of other commands fill nothing.
    assert not {"when", "statistic", "wet-day"} & out.keys()
    assert asked(make_request("normals", given))["statistic"] == ["p10"]
    assert asked(make_request("extremes", given))["wet-day"] == "2 mm"
    assert asked(make_request("extremes", given))["when"] == ["rain >= 20 mm"]
    assert asked(make_request("series", given))["combine"] == "degree-days above 10 degC"
    assert asked(make_request("series", given))["make"] == ["m = rain * 2"]


def test_what_is_said_of_one_grid_is_kept_apart(tmp_path):
    for name in "ab":
        (tmp_path / f"{name}.nc").write_bytes(b"CDF\x01")
    given = {
        "grids": [f"rain={tmp_path / 'a.nc'}", f"tmax={tmp_path / 'b.nc'}"],
        "input-unit": ["rain=mm", "K"],
    }
    request = make_request("series", given)
    assert request.grids.by_grid == (("input_unit", "rain", "mm"),)
    assert request.grids.reading.input_unit == "K"
    with pytest.raises(RequestError, match="given as 'K' and as 'mm'"):
        make_request("series", {**given, "input-unit": ["K", "mm"]})


@pytest.mark.parametrize(
    ("option", "text", "said"),
    [
        ("every", "fortnight", "is no period"),
        ("during", "2003..2001", "ends before it begins"),
        ("base", "91..20", "no run of years"),
        ("measure", ["middle"], "is no measure"),
        ("statistic", ["mode"], "is no statistic"),
        ("count", ["often"], "is no count"),
        ("index", ["XYZ"], "is no index"),
        ("window", ["0"], "no number of periods"),
        ("smooth", "4", "no odd number"),
        ("min-steps", "2", "is no share"),
        ("min-area", "much", "is no share"),
        ("memory", "lots", "is no size"),
        ("scale", "nan", "is no number"),
        ("day-start", "25", "is no hour"),
        ("utc-offset", "5", "is no offset"),
        ("jobs", "0", "no number of workers"),
        ("year-start", "13", "is no month"),
        ("return-levels", "1", "are no return periods"),
        ("test-on", "land", "use one of: cell region"),
        ("stamp", "noon", "use one of: start middle end"),
        ("pick", ["p90"], "names no value"),
        ("regions", "200,100", "is no place"),
        ("scale", "1,2,3", "is no scale"),
        ("normals-from", "days", "use one of: periods whole-years months"),
        ("combine", "degree-days above 3 mm", "no unit of temperature"),
        ("as", "share", "use one of: value anomaly"),
    ],
)
def test_a_text_that_cannot_be_read_is_refused_with_the_name_of_its_option(option, text, said):
    command = next(o for o in OPTIONS if o.name == option and o.parse).commands.split()[-1]
    with pytest.raises(BavloError, match=said) as error:
        make_request(command, {option: text})
    assert error.value.text(as_option).startswith(f"--{option}")


def test_fields_are_worded_as_options_or_as_keywords():
    text = f"use {setting('min_steps', 0.9)} or {setting('when', 'rain > 1 mm')}, not ‹order›"
    assert worded(text) == "use min_steps='0.9' or when='rain > 1 mm', not order"
    assert worded(text, as_option) == 'use --min-steps 0.9 or --when "rain > 1 mm", not --order'
    assert as_option("product", "score") == "--as score"
    assert str(RequestError("every", "is wrong", "use ‹every month›")) == (
        "every: is wrong; use every='month'"
    )
    assert RequestError("every", "is wrong").field == "every"


@pytest.mark.parametrize(
    ("text", "bytes_"), [("800MB", 800 * 2**20), ("2GB", 2**31), ("1.5 gib", 3 * 2**29), ("7", 7)]
)
def test_sizes_are_read_with_their_units(text, bytes_):
    assert parse.size(text) == bytes_


def test_files_are_found_by_path_pattern_folder_and_name(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    for name in ("b.nc", "a.nc", ".hidden"):
        (tmp_path / name).write_bytes(b"CDF\x01")
    (tmp_path / "empty").mkdir()
    assert [p.name for p in parse.expand("*.nc")] == ["a.nc", "b.nc"]
    assert [p.name for p in parse.expand(str(tmp_path))] == ["a.nc", "b.nc", "empty"][:2]
    (rain, plain) = parse.parse_grids(["rain=a.nc", "b.nc", "rain=b.nc"])
    assert (rain.name, [p.name for p in rain.paths]) == ("rain", ["a.nc", "b.nc"])
    assert plain.name is None
    for text, said in (("*.tif", "no file matches"), ("x.nc", "no such file"), ("empty", "empty")):
        with pytest.raises(BavloError, match=said):
            parse.expand(text)


def test_the_processors_that_may_be_used_are_counted(monkeypatch):
    assert options.usable_cpus() >= 1
    monkeypatch.delattr(options.os, "sched_getaffinity", raising=False)
    monkeypatch.setattr(options.os, "cpu_count", lambda: None)
    assert options.usable_cpus() == 1
