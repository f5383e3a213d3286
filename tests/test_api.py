"""The functions that `import bavlo` gives: their signatures, tables, traces, studies and pages."""

import inspect
import json
import runpy
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

import bavlo
from bavlo.calls import ON_COMMAND_LINE
from bavlo.request.options import options_of
from support import box, run, write_grid, write_regions

ROOT = Path(__file__).parent.parent
FUNCTIONS = (
    "series normals anomalies extremes trends compare grid chart map describe trace"
).split()
DAYS = np.arange(np.datetime64("2001-01-01"), np.datetime64("2004-01-01"))


@pytest.fixture(scope="module")
def world(tmp_path_factory):
    """A grid of three years and two regions."""
    folder = tmp_path_factory.mktemp("api")
    rain = np.random.default_rng(8).gamma(0.5, 8, (DAYS.size, 4, 6)).round(1)
    grid = write_grid(folder / "rain.nc", rain, attributes={"cell_methods": "time: sum"})
    shapes = {"a": box(0.5, 0.5, 2.25, 3), "b": box(2, 1, 5.5, 3.75)}
    return folder, rain, grid, write_regions(folder / "w.geojson", shapes)


@pytest.fixture(scope="module")
def months(world):
    """Its monthly series."""
    return bavlo.series(world[2], regions=world[3], every="month", measure=["mean", "max"])


def test_the_functions_are_those_of_the_table_of_options():
    made = runpy.run_path(str(ROOT / "docs" / "make_api.py"))["page"]()
    assert (ROOT / "src/bavlo/api.py").read_text() == made, "run docs/make_api.py"


@pytest.mark.parametrize("command", FUNCTIONS)
def test_a_function_has_the_options_of_its_command_as_keywords(command):
    function = getattr(bavlo, command)
    named = {name.rstrip("_").replace("_", "-") for name in inspect.signature(function).parameters}
    own = {option.name for option in options_of(command)} - set(ON_COMMAND_LINE)
    assert own <= named
    assert named - own <= {"grids", "tables", "files", "shown", "table", "progress", "unknown"}
    assert all(f"    {name}\n" in function.__doc__ for name in own if "-" not in name[:0] and
               name.isidentifier() and name not in ("except", "as"))  # fmt: skip


GOOD = """
from pathlib import Path
import bavlo

table = bavlo.series("rain.nc", regions=Path("w.geojson"), every=["month"], min_steps="wmo")
both = bavlo.compare({"a": "a.nc", "b": "b.nc"}, regions="w", kind={"a": "amount"}, scale=(0.1, 2))
frame = table.to_pandas(layout="by-time")
first: dict[str, object] = table[0]
some: list[dict[str, object]] = table[:3]
value = table["value"].max()
for row in table.filter(region="a", period=["2001-01"]):
    print(row["value"], value, frame, first, some, both.columns)
trace = bavlo.trace(table, region="a", period="2001-01")
print(trace.reproduced, [row for row in trace.cells])
for outcome in bavlo.run("study.toml", check=True):
    print(outcome.name, outcome.why)
page: Path = bavlo.report(table, out="page.html")
bavlo.chart(table, figure="lines", size="900x600").savefig("a.png")
"""
WRONG = {
    'bavlo.series("a.nc", evry="month")': "series",
    'bavlo.series("a.nc", order="cells")': "order",
    'bavlo.series("a.nc", out="x.csv")': "series",
    'bavlo.extremes("a.nc", events="e.csv")': "events",
    'bavlo.grid("a.nc", cell="big")': "cell",
}


@pytest.mark.slow
def test_a_type_checker_takes_right_calls_and_finds_wrong_ones(tmp_path):
    (tmp_path / "good.py").write_text(GOOD)
    lines = ["import bavlo", *WRONG]
    (tmp_path / "wrong.py").write_text("\n".join(lines) + "\n")
    words = [sys.executable, "-m", "mypy", "--strict", "--no-error-summary", "good.py", "wrong.py"]
    done = subprocess.run(words, cwd=tmp_path, capture_output=True, text=True, check=False)
    found = [line for line in done.stdout.splitlines() if ": error:" in line]
    assert [line.split(":")[:2] for line in found] == [
        ["wrong.py", str(n)] for n in range(2, len(lines) + 1)
    ], done.stdout + done.stderr
    assert all(word in line for word, line in zip(WRONG.values(), found, strict=True))


def test_a_keyword_that_there_is_not_is_answered_truly(world):
    for given, said in (
        ({"out": "a.csv"}, "series has no out; write what it gives, as table.write"),
        ({"replace": True}, "overwrite=True"),
        ({"layout": "by-time"}, "to_pandas"),
        ({"complete": "wmo"}, "say min_steps='wmo'"),
        ({"at": "1,2"}, "say regions='LON,LAT'"),
        ({"evry": "month"}, "did you mean every"),
        ({"zzz": 1}, r"see help\(bavlo.series\)"),
    ):
        with pytest.raises(bavlo.BavloError, match=said):
            bavlo.series(world[2], regions=world[3], **given)


def test_a_table_is_rows_and_columns_as_python_has_them(months):
    rows = list(months)
    assert len(rows) == len(months) == 2 * 36 * 2
    assert rows[0] == months[0]
    assert rows[-1] == months[-1]
    assert months[2:5] == rows[2:5]
    assert [row["value"] for row in rows] == months["value"].tolist()
    assert "value" in months
    assert "rain" not in months
    assert list(dict(months)) == months.columns
    with pytest.raises(IndexError):
        months[len(months)]
    assert all(type(value) in (str, float) for value in rows[0].values())


def test_rows_are_chosen_by_the_values_of_columns(months, world, tmp_path):
    chosen = months.filter(region="b", period=["2002-03", "2001-07"], measure="max")
    assert [(row["region"], row["period"], row["measure"]) for row in chosen] == [
        ("b", "2001-07", "max"), ("b", "2002-03", "max"),
    ]  # fmt: skip
    expected = [row["value"] for row in months if (row["region"], row["measure"]) == ("b", "max")]
    assert set(chosen["value"]) <= set(expected)
    with pytest.raises(bavlo.BavloError, match="region has no c"):
        months.filter(region="c")
    with pytest.raises(bavlo.BavloError, match="has no column regoin"):
        months.filter(regoin="a")
    with pytest.raises(bavlo.BavloError, match="filter by another column"):
        months.filter(value=1.0)
    months.filter(region="a", measure="mean").write(tmp_path / "a.geojson")
    (feature,) = json.loads((tmp_path / "a.geojson").read_text())["features"]
    assert feature["properties"]["region"] == "a"


def test_tables_are_equal_by_their_contents(months, world):
    again = bavlo.series(world[2], regions=world[3], every="month", measure=["mean", "max"])
    assert again == months
    assert months != months.filter(region="a")
    assert months != "months"
    gaps = bavlo.series(world[2], regions=world[3], every="10-15..01-15")  # an empty last one
    assert np.isnan(gaps["value"]).any() or len(gaps) == 4
    assert gaps == bavlo.series(world[2], regions=world[3], every="10-15..01-15")


@pytest.mark.parametrize(
    ("every", "frequency", "first"),
    [("month", "M", "2001-01"), ("year", "Y-DEC", "2001"), ("MAM,JJA,SON", "Q-NOV", "2001Q2"),
     ("day", "D", "2001-01-01")],
)  # fmt: skip
def test_periods_of_the_calendar_are_the_index_of_a_frame(world, every, frequency, first):
    pandas = pytest.importorskip("pandas")
    table = bavlo.series(world[2], regions=world[3], every=every)
    if every.startswith("MAM"):
        frames = [table.filter(every=one).to_pandas(layout="by-time") for one in every.split(",")]
        frame = pandas.concat(frames)
    else:
        frame = table.to_pandas(layout="by-time")
    assert isinstance(frame.index, pandas.PeriodIndex)
    assert frame.index.freqstr in (frequency, frequency.replace("Y", "A"))
    assert str(frame.index[0]) == first
    assert list(frame.columns) == ["a", "b"]
    own = [row["value"] for row in table if row["region"] == "b"]
    assert frame["b"].tolist() == own
    assert frame.attrs["bavlo"] == table.about


def test_frames_have_dates_and_other_periods_keep_their_labels(world):
    pytest.importorskip("pandas")
    table = bavlo.series(world[2], regions=world[3], every="06-15..09-30")
    frame = table.to_pandas()
    assert frame["start"].dtype.kind == frame["end"].dtype.kind == "M"
    assert next(iter(table.to_pandas(layout="by-time").index)) == "2001:06-15..09-30"
    assert list(table.to_pandas(layout="by-region").index) == ["a", "b"]


def test_points_and_shapes_are_regions(world):
    import shapely

    _folder, rain, grid, _ = world
    at = bavlo.series(grid, regions=[(1.5, 2.5), (4.5, 0.5)], every="year")
    days = DAYS.astype("M8[Y]") == np.datetime64("2002")
    found = at.filter(period="2002")["value"]
    np.testing.assert_allclose(found, [rain[days, 2, 1].sum(), rain[days, 0, 4].sum()])
    shape = shapely.box(0, 0, 2, 1)
    for regions in (shape, [shape], {"type": "Feature", "properties": {},
                                     "geometry": shapely.geometry.mapping(shape)}):  # fmt: skip
        values = bavlo.series(grid, regions=regions, every="year")["value"]
        assert len(values) == 3


def test_a_trace_gives_the_steps_and_cells_of_a_number(world, tmp_path):
    _folder, _rain, grid, regions = world
    table = bavlo.series(grid, regions=regions, every="month")
    table.write(tmp_path / "t.csv")
    trace = bavlo.trace(tmp_path / "t.csv", region="a", period="2002-02")
    assert trace.reproduced
    assert trace.differences == ()
    assert len(trace.steps) == 28
    assert trace.row["value"] == table.filter(region="a", period="2002-02")["value"][0]
    assert sum(row["weight"] for row in trace.cells) == pytest.approx(1)
    total = sum(row["weight"] * row["value"] for row in trace.cells)
    assert total == pytest.approx(trace.row["value"])
    with pytest.raises(bavlo.BavloError, match="no row has the region c"):
        bavlo.trace(tmp_path / "t.csv", region="c", period="2002-02")


def test_a_study_and_a_page_are_made_from_python(world, tmp_path):
    pytest.importorskip("jinja2")
    _folder, _, grid, regions = world
    study = tmp_path / "s.toml"
    study.write_text(
        f'[grids]\nrain = "{grid}"\n[regions]\nfile = "{regions}"\n'
        '[[result]]\nname = "months"\ncommand = "series"\nout = "months.csv"\n'
        '[[result]]\nname = "odd"\ncommand = "series"\nevery = "hour"\nout = "odd.csv"\n'
    )
    before = [(each.name, each.state) for each in bavlo.run(study, check=True, only="months")]
    assert before == [("months", "not made")]
    heard = []
    made, odd = bavlo.run(study, progress=lambda done, total: heard.append((done, total)))
    assert made.state == "made"
    assert odd.state == "failed"
    assert "hour" in odd.why
    assert heard
    assert heard[-1][0] == heard[-1][1]
    (again,) = bavlo.run(study, only=["months"])
    assert again.state == "up to date"
    line = run("series", grid, "--regions", regions, "--out", "-", "--quiet").stdout
    assert (tmp_path / "months.csv").read_text() == line
    page = bavlo.report(tmp_path / "months.csv", out=tmp_path / "p.html", title="Rain of months")
    assert "Rain of months" in page.read_text()
    with pytest.raises(bavlo.BavloError, match="exists already"):
        bavlo.report(tmp_path / "months.csv", out=tmp_path / "p.html")


def test_what_is_in_memory_reaches_the_engine_without_a_file(world, monkeypatch):
    pandas = pytest.importorskip("pandas")
    _, rain, grid, regions = world
    lat, lon = np.arange(4) + 0.5, np.arange(6) + 0.5
    array = bavlo.Array(rain, lat, lon, DAYS, "rain", "mm", {"cell_methods": "time: sum"})
    table = bavlo.series(grid, regions=regions, every="month")
    made = bavlo.grid(grid, every="year")

    def refuse(*_, **__):
        raise AssertionError("a temporary file")

    monkeypatch.setattr("tempfile.TemporaryDirectory", refuse)
    monkeypatch.setattr("tempfile.mkdtemp", refuse)
    held = bavlo.series(array, regions=regions, every="month")
    assert np.array_equal(held["value"], table["value"], equal_nan=True)
    (first, _) = held.about["inputs"]
    assert set(first) == {"file", "metadata_sha256", "digest", "digest_of"}
    assert first["file"] == "in memory 1"
    masked = np.ma.masked_greater(rain, 20.0)
    gaps = np.where(rain > 20, np.nan, rain)
    of_masked, of_gaps = (
        bavlo.series(bavlo.Array(values, lat, lon, DAYS, "rain", "mm", array.attributes),
                     regions=regions, every="day", min_area=0)
        for values in (masked, gaps)
    )  # fmt: skip
    assert of_masked == of_gaps
    assert of_masked.about["inputs"][0]["digest"] == of_gaps.about["inputs"][0]["digest"]
    other = bavlo.Array(rain + 1, lat, lon, DAYS, "rain", "mm", {"cell_methods": "time: sum"})
    changed = bavlo.series(other, regions=regions, every="month").about["inputs"][0]
    assert changed["digest"] != first["digest"]
    against = bavlo.anomalies(table, base=(2001, 2003))
    assert against.about["inputs"][0]["about"] == table.about
    years = bavlo.series(made, regions=regions, every="year")
    np.testing.assert_allclose(
        years["value"], bavlo.series(grid, regions=regions, every="year")["value"]
    )
    people = bavlo.Array(np.arange(24.0).reshape(4, 6), lat, lon, name="people", unit="1")
    weighted = bavlo.series(
        grid, regions=regions, every="year", weight=people, kind={"weight": "count"}
    )
    assert set(weighted["weight"]) == {"people"}
    frame = pandas.DataFrame(
        {"station": ["a"] * 36, "date": pandas.date_range("2001-01-01", periods=36, freq="MS"),
         "rain (mm)": table.filter(region="a")["value"] + 1.0}
    )  # fmt: skip
    frame["date"] = frame["date"].dt.strftime("%Y-%m")
    found = bavlo.compare({"grid": table, "gauge": frame})
    bias = found.filter(region="a", period="all", statistic="bias")["value"]
    assert bias == pytest.approx([1.0])


def test_data_frames_come_by_their_columns_or_their_arrow_stream(world):
    pyarrow = pytest.importorskip("pyarrow")
    months = np.arange("2001-01", "2004-01", dtype="M8[M]")
    values = np.random.default_rng(2).gamma(2, 30, months.size).round(1)
    table = pyarrow.table({"date": months.astype(str), "rain (mm)": values})

    class Stream:
        """A frame that has nothing but the open protocol."""

        def __arrow_c_stream__(self, requested_schema=None):
            return table.__arrow_c_stream__(requested_schema)

    class Columns:
        """A frame that has columns by their names."""

        columns = ("date", "rain (mm)")

        def __getitem__(self, name):
            return {"date": months, "rain (mm)": values}[name]

    for frame in (table, Stream(), Columns()):
        found = bavlo.normals(
            {"gauge": frame}, base=(2001, 2003), every="month", columns={"date": "date"}
        )
        july = found.filter(period="07", statistic="mean")["value"]
        np.testing.assert_allclose(july, [values[6::12].mean()])


def test_a_traced_table_in_memory_comes_back(world):
    table = bavlo.series(world[2], regions=world[3], every="month")
    trace = bavlo.trace(table, region="b", period="2003-12")
    assert trace.reproduced
    zones = bavlo.Array(
        np.repeat([[1, 2]], 4, 0).repeat(3, 1), np.arange(4) + 0.5, np.arange(6) + 0.5
    )
    by_zone = bavlo.series(world[2], regions=zones, every="year")
    with pytest.raises(bavlo.BavloError, match="held in memory, which is gone"):
        bavlo.trace(by_zone, region="1", period="2002")
    assert sorted(set(by_zone["region"])) == ["1", "2"]
