"""Tables of others: one set of observations in many layouts is read as the same values."""

import datetime
import json

import numpy as np
import pytest

from bavlo.errors import BavloError
from bavlo.tables.observed import ObservedOptions, looks_observed, read_observed
from support import run

NAMES = ("Halder", "North Fork")
YEARS = (2001, 2002)
MONTHS = [(year, month) for year in YEARS for month in range(1, 13)]
VALUES = np.round(np.random.default_rng(8).gamma(2, 40, (24, 2)), 1)
LABELS = tuple(f"{year}-{month:02}" for year, month in MONTHS)
DAYS = [datetime.date(2001, 1, 1) + datetime.timedelta(n) for n in range(90)]
DAILY = np.round(np.random.default_rng(9).gamma(1, 5, (90, 2)), 1)
ABBREVIATED = "Jan Feb Mar Apr May Jun Jul Aug Sep Oct Nov Dec".split()


def long_rows(date, sign=",", number=str):
    """A row for each month and station, dates written by a function of year and month."""
    return [
        sign.join((name, date(*month), number(value)))
        for month, row in zip(MONTHS, VALUES, strict=True)
        for name, value in zip(NAMES, row, strict=True)
    ]


def daily_rows(form):
    return [
        f"{name},{day.strftime(form)},{value}"
        for day, row in zip(DAYS, DAILY, strict=True)
        for name, value in zip(NAMES, row, strict=True)
    ]


def iso(year, month):
    return f"{year}-{month:02}"


def months_across(heads, sign=",", head="station"):
    rows = [sign.join((head, "Year", *heads))]
    for s, name in enumerate(NAMES):
        for y, year in enumerate(YEARS):
            rows.append(sign.join((name, str(year), *map(str, VALUES[12 * y : 12 * y + 12, s]))))
    return rows


def text(rows):
    return "\n".join(rows) + "\n"


def comma(value):
    return f"{value:.1f}".replace(".", ",")


HEAD = "station,date,rain (mm)"
MONTHLY = {
    "ISO months": [HEAD, *long_rows(iso)],
    "months without a sign": [HEAD, *long_rows(lambda y, m: f"{y}{m:02}")],
    "month before the year": [HEAD, *long_rows(lambda y, m: f"{m}/{y}")],
    "names of months": [HEAD, *long_rows(lambda y, m: f"{ABBREVIATED[m - 1]}-{y % 100:02}")],
    "first days": [HEAD, *long_rows(lambda y, m: f"{y}-{m:02}-01")],
    "first days, day first": [HEAD, *long_rows(lambda y, m: f"01.{m:02}.{y}")],
    "with midnight": [HEAD, *long_rows(lambda y, m: f"{y}-{m:02}-01T00:00:00Z")],
    "serial numbers": [
        HEAD,
        *long_rows(lambda y, m: str((datetime.date(y, m, 1) - datetime.date(1899, 12, 30)).days)),
    ],
    "year and month": ["Station,Year,Month,Rain (mm)", *long_rows(lambda y, m: f"{y},{m}")],
    "year and name of month": [
        "Station,YEAR,MON,Rain (mm)",
        *long_rows(lambda y, m: f"{y},{ABBREVIATED[m - 1].upper()}"),
    ],
    "semicolons and decimal commas": [
        "station;date;rain (mm)",
        *long_rows(iso, ";", comma),
    ],
    "tabs": ["station\tdate\train (mm)", *long_rows(iso, "\t")],
    "quotes": ['"station","date","rain (mm)"', *long_rows(iso, ",", lambda v: f'"{comma(v)}"')],
    "titles, comments and units above": [
        "# fetched from the archive",
        "Rain of the Sorrel Coast,,",
        ",,mm",
        "station,date,rain",
        *long_rows(iso),
    ],
    "units below the head": ["station,date,rain", ",yyyy-mm,mm", *long_rows(iso)],
    "sums below": [HEAD, *long_rows(iso), "Total,2001-2002,99999"][:-1]
    + ["Source: the gauges of the coast"],
    "months across": ["Rain (mm)", *months_across(ABBREVIATED)],
    "full months and a sum across": [
        "Rain (mm)",
        "station,Year,January,February,March,April,May,June,July,August,September,October,"
        "November,December,Annual",
        *[f"{row},{9}" for row in months_across(ABBREVIATED)[1:]],
    ],
    "numbers of months across": ["Rain (mm)", *months_across([f"M{n}" for n in range(1, 13)])],
    "stations across": [
        "Monthly rain",
        f"date,{','.join(NAMES)}",
        f",{','.join('mm' for _ in NAMES)}",
        *[f"{iso(*m)},{a},{b}" for m, (a, b) in zip(MONTHS, VALUES.tolist(), strict=True)],
    ],
    "dates across": [
        "rain (mm)",
        f"station,{','.join(LABELS)}",
        *[f"{name},{','.join(map(str, VALUES[:, n]))}" for n, name in enumerate(NAMES)],
    ],
    "a column of variables": [
        "station,date,element,value,unit",
        *[f"{row.rpartition(',')[0]},rain,{row.rpartition(',')[2]},mm" for row in long_rows(iso)],
    ],
}


@pytest.mark.parametrize("layout", MONTHLY)
def test_one_truth_in_many_layouts_is_read_as_the_same_values(tmp_path, layout):
    path = tmp_path / "obs.csv"
    path.write_text(text(MONTHLY[layout]))
    found = read_observed(path)
    assert (found.regions, found.every, found.dates) == (NAMES, "month", LABELS)
    np.testing.assert_array_equal(found.values, VALUES)
    assert (found.unit, found.variable.casefold().split()[-1]) == ("mm", "rain")
    assert looks_observed(path)


@pytest.mark.parametrize("head", ["Punkt;Dato;Nedbor\n", ""])
def test_a_table_without_known_heads_has_its_places_found_and_loses_no_row(tmp_path, head):
    path = tmp_path / "obs.csv"
    rows = ["A;2001-01-01;3,5", "B;2001-01-01;2,0", "A;2001-01-02;1,5", "B;2001-01-02;2,5"]
    path.write_text(head + "\n".join(rows))
    found = read_observed(path)
    assert found.regions == ("A", "B")
    assert found.values.tolist() == [[3.5, 2.0], [1.5, 2.5]]
    assert not found.left_out
    path.write_text(head + "\n".join([*rows, "A;2001-01-01;9,0"]))
    with pytest.raises(BavloError, match="has a second value of 2001-01-01; keep one, or name"):
        read_observed(path)


def test_heads_in_other_words_stand_above_units_and_sums(tmp_path):
    path = tmp_path / "obs.csv"
    path.write_text(
        "Nedbor 2001\nDato;Nord;Syd\n;mm;mm\n01.01.2001;3,5;T\n13.01.2001;---;2,0\nSum;3,5;2,0\n"
    )
    found = read_observed(path)
    assert found.regions == ("Nord", "Syd")
    assert found.unit == "mm"
    np.testing.assert_array_equal(found.values, [[3.5, 0], [np.nan, 2]])
    assert found.left_out == "1 row that is no observation: line 6 ('Sum')"


@pytest.mark.parametrize("form", ["%d/%m/%Y", "%m/%d/%Y", "%d.%m.%Y", "%d-%b-%Y", "%b %d %Y",
                                  "%Y%m%d", "%Y-%j", "%Y/%m/%d", "%d/%m/%Y 09:00",
                                  "%m/%d/%Y 12:00:00 AM"])  # fmt: skip
def test_days_are_read_in_the_form_that_fits_the_whole_column(tmp_path, form):
    path = tmp_path / "obs.csv"
    path.write_text(text([HEAD, *daily_rows(form)]))
    found = read_observed(path)
    assert (found.every, found.dates) == ("day", tuple(map(str, DAYS)))
    np.testing.assert_array_equal(found.values, DAILY)


def test_days_across_are_those_that_each_month_has(tmp_path):
    days = [f"day{n}" for n in range(1, 32)]
    rows = [",".join(("station", "element", "year", "month", *days))]
    for s, name in enumerate(NAMES):
        for month in (1, 2, 3):
            cells = [str(v) for d, v in zip(DAYS, DAILY[:, s], strict=True) if d.month == month]
            cells += [""] * (31 - len(cells))
            rows.append(",".join((name, "rain", "2001", str(month), *cells)))
    path = tmp_path / "obs.csv"
    path.write_text(text(rows))
    found = read_observed(path)
    assert (found.every, found.dates) == ("day", tuple(map(str, DAYS)))
    np.testing.assert_array_equal(found.values, DAILY)
    path.write_text(text(rows).replace(rows[2], rows[2].rstrip(",") + ",7.5"))
    with pytest.raises(BavloError, match=r"2001-02-29.*is no date"):
        read_observed(path)


def test_dates_that_fit_in_two_ways_are_asked_and_taken_as_said(tmp_path):
    path = tmp_path / "obs.csv"
    path.write_text("date,rain (mm)\n03/04/2001,1\n05/06/2001,2\n")
    with pytest.raises(BavloError, match=r"2001-04-03 or 2001-03-04.*dates='%d/%m/%Y'"):
        read_observed(path)
    day_first = read_observed(path, ObservedOptions(dates="%d/%m/%Y"))
    month_first = read_observed(path, ObservedOptions(dates="%m/%d/%Y"))
    assert day_first.dates == ("2001-04-03", "2001-06-05")
    assert month_first.dates == ("2001-03-04", "2001-05-06")


@pytest.mark.parametrize(
    ("days", "every", "first"),
    [((1, 11, 21), "dekad", "2001-01-d1"), ((5, 10, 15, 20, 25, 28), "pentad", None)],
)
def test_stamps_of_parts_of_months_are_those_parts(tmp_path, days, every, first):
    rows = [f"2001-{m:02}-{d:02},{d}" for m in (1, 2, 3) for d in days]
    path = tmp_path / "obs.csv"
    path.write_text(text(["date,rain (mm)", *rows]))
    found = read_observed(path)
    assert found.every == (every if first else "day")
    assert first is None or found.dates[0] == first
    as_days = read_observed(path, ObservedOptions(dates="%Y-%m-%d"))
    assert as_days.every == "day"


def test_several_variables_are_asked_and_chosen(tmp_path):
    path = tmp_path / "obs.csv"
    rows = ["station,date,element,value"]
    for element in ("tmax", "tmin"):
        rows += [f"A,2001-01-{d:02},{element},{d if element == 'tmax' else -d}" for d in (1, 2, 3)]
    path.write_text(text(rows))
    with pytest.raises(BavloError, match=r"several variables: tmax, tmin.*variable='tmax'"):
        read_observed(path)
    for options in (ObservedOptions(variable="tmin"), ObservedOptions(called="tmin")):
        found = read_observed(path, options)
        assert (found.variable, found.values[:, 0].tolist()) == ("tmin", [-1, -2, -3])
    path.write_text("date,tmax (degC),tmin (degC)\n2001-01-01,30,20\n2001-01-02,31,21\n")
    with pytest.raises(BavloError, match=r"there are: tmax .degC., tmin .degC."):
        read_observed(path)
    assert read_observed(path, ObservedOptions(variable="tmin")).values.ravel().tolist() == [20, 21]


@pytest.mark.parametrize(
    ("written", "value"),
    [("T", 0), ("tr", 0), ("---", None), ("M", None), ("#N/A", None), ("1,234.5", 1234.5),
     ("1.234,5", 1234.5), ("1 234.5", 1234.5), ("−3.5", -3.5), ("'", "no number"),
     ("3.2*", "no number")],
)  # fmt: skip
def test_cells_are_numbers_marks_traces_or_the_first_odd_one(tmp_path, written, value):
    path = tmp_path / "obs.csv"
    path.write_text(f"date;rain (mm)\n2001-01-01;2\n2001-01-02;{written}\n2001-01-03;4\n")
    if isinstance(value, str):
        with pytest.raises(BavloError, match=f"line 3: .*{value}"):
            read_observed(path)
        return
    found = read_observed(path)
    np.testing.assert_array_equal(found.values[:, 0], [2, np.nan if value is None else value, 4])
    assert found.traces == (value == 0)
    assert found.marks == (((written, 1),) if value is None else ())


def test_commas_that_may_be_thousands_or_decimals_are_asked(tmp_path):
    path = tmp_path / "obs.csv"
    path.write_text("date;rain (mm)\n2001-01-01;1,234\n2001-01-02;2,500\n")
    with pytest.raises(BavloError, match=r"'1,234' may be 1234 or 1.234"):
        read_observed(path)


@pytest.mark.parametrize("encoding", ["latin-1", "utf-16", "utf-8-sig", "utf-16-le"])
def test_names_are_read_in_the_encodings_of_spreadsheets(tmp_path, encoding):
    path = tmp_path / "obs.csv"
    path.write_bytes("station,date,rain (mm)\nGrünsee,2001-01,3\n".encode(encoding))
    assert read_observed(path).regions == ("Grünsee",)


def test_another_encoding_is_asked_by_name(tmp_path):
    path = tmp_path / "obs.csv"
    path.write_bytes("station,date,rain (mm)\nБереза,2001-01,3\n".encode("cp1251"))
    with pytest.raises(BavloError, match=r"neither UTF-8 nor Latin-1.*encoding"):
        read_observed(path)
    assert read_observed(path, ObservedOptions(encoding="cp1251")).regions == ("Береза",)
    for wrong, said in (("utf-8", "is not in the encoding utf-8"), ("klingon", "is no encoding")):
        with pytest.raises(BavloError, match=said):
            read_observed(path, ObservedOptions(encoding=wrong))


def test_a_workbook_has_its_sheet_found_or_chosen(tmp_path):
    openpyxl = pytest.importorskip("openpyxl")
    book = openpyxl.Workbook()
    book.active.title = "Read me"
    book.active.append(["Rain at the gauges of the Sorrel Coast"])
    for sheet, factor in (("Halder", 1), ("Fork", 2)):
        page = book.create_sheet(sheet)
        page.append(["Monthly rain"])
        page.append([None, "mm"])
        page.append(["Date", "Rain"])
        for (year, month), value in zip(MONTHS, VALUES[:, 0].tolist(), strict=True):
            page.append([datetime.datetime(year, month, 1), factor * value])
    path = tmp_path / "obs.xlsx"
    book.save(path)
    with pytest.raises(BavloError, match=r"several sheets with observations: Halder, Fork.*layer"):
        read_observed(path)
    found = read_observed(path, ObservedOptions(layer="Fork"))
    assert (found.dates, found.unit) == (LABELS, "mm")
    np.testing.assert_array_equal(found.values[:, 0], 2 * VALUES[:, 0])
    del book["Fork"]
    book.save(path)
    np.testing.assert_array_equal(read_observed(path).values[:, 0], VALUES[:, 0])


@pytest.mark.parametrize("ending", [".parquet", ".feather"])
def test_typed_files_are_read_by_their_columns(tmp_path, ending):
    pytest.importorskip("pyarrow")
    import pyarrow.feather
    import pyarrow.parquet

    months = np.array([f"{label}-01" for label in LABELS], "M8[s]")
    table = pyarrow.table({"date": months, "rain": VALUES[:, 0], "unit": ["mm"] * 24})
    path = tmp_path / f"obs{ending}"
    write = pyarrow.parquet.write_table if ending == ".parquet" else pyarrow.feather.write_feather
    write(table, path)
    found = read_observed(path)
    assert (found.every, found.dates, found.unit) == ("month", LABELS, "mm")
    np.testing.assert_array_equal(found.values[:, 0], VALUES[:, 0])


def test_what_was_read_left_out_and_dropped_is_said_and_recorded(tmp_path):
    rows = [HEAD, *long_rows(iso)]
    rows[3] = rows[3].rpartition(",")[0] + ",T"
    rows[4] = rows[4].rpartition(",")[0] + ",---"
    path = tmp_path / "obs.csv"
    path.write_text(text([*rows, HEAD, "Total"]))
    done = run("normals", path, "--base", "2001..2002", "--out", tmp_path / "n.csv", "--verbose")
    for words in ("1 traces (T) are taken as 0", "2 rows that are no observations", "'---' (1)"):
        assert words in done.stderr
    about = json.loads((tmp_path / "n.csv.about.json").read_text())["inputs"][0]
    assert (about["traces"], about["no_data"]) == (1, {"---": 1})
    assert "line 50 ('station')" in about["left_out"]


def test_describe_says_what_it_understood_of_observations(tmp_path):
    path = tmp_path / "obs.csv"
    rows = long_rows(lambda y, m: f"{ABBREVIATED[m - 1]}-{y % 100:02}")
    rows[5] = rows[5].rpartition(",")[0] + ",M"
    del rows[-1]
    path.write_text(text([HEAD, *rows]))
    said = run("describe", path).stdout
    for words in ("2: Halder, North Fork", "24 months, 2001-01 to 2002-12", "dates as %b-%y",
                  "rain in mm", "'M' (1)", "2 of 48 values are missing"):  # fmt: skip
        assert words in said, (words, said)
