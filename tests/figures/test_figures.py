"""Figures by what their artists show: data, labels, colours and words."""

import numpy as np
import pytest
from matplotlib.collections import PolyCollection, QuadMesh
from matplotlib.colors import to_rgba
from matplotlib.container import BarContainer

from bavlo.core.stats.gev import plotting_positions
from bavlo.core.stats.normals import Base
from bavlo.errors import RequestError
from bavlo.figures import DRAWINGS, draw
from bavlo.figures.climate import ABOVE, BELOW
from bavlo.figures.page import Page, render
from bavlo.figures.style import HEAT, WET, counts_heat, on_page, save, scale_for, shortened
from bavlo.tables.schema import (
    ANOMALIES,
    CLASSES,
    EVENTS,
    EXTREMES,
    NORMALS,
    RETURN_LEVELS,
    SERIES,
    TRENDS,
)
from bavlo.tables.table import Table, text_column

REGIONS = ["Upper Corran", "Otterslade"]


def series(values, labels, starts, ends, unit="mm", regions=REGIONS, measures=("mean",)):
    """A series table; `values` is (R, P) or (R, P, M)."""
    values = np.asarray(values, float)
    values = values.reshape(*values.shape[:2], -1)
    return SERIES.table(
        {
            "region": regions[: len(values)],
            "period": labels,
            "start": starts,
            "end": ends,
            "variable": "rain",
            "measure": list(measures),
            "value": values,
            "unit": [unit] * len(measures),
            "combine": "total",
            "order": ["region"] * len(measures),
            "area_valid": np.ones_like(values),
            "steps": np.ones(values.shape[:2]),
            "steps_expected": np.ones(values.shape[1]),
            "note": np.full(values.shape, "", object),
        }
    )


def yearly(values, **more):
    years = range(2001, 2001 + np.shape(values)[1])
    texts = [str(y) for y in years]
    return series(
        values, texts, [f"{y}-01-01" for y in years], [f"{y}-12-31" for y in years], **more
    )


def monthly(values, **more):
    months = [(2001 + n // 12, n % 12 + 1) for n in range(np.shape(values)[1])]
    labels = [f"{y}-{m:02d}" for y, m in months]
    return series(values, labels, [f"{t}-01" for t in labels], [f"{t}-28" for t in labels], **more)


def words(figure):
    """All texts of a figure."""
    found = [t.get_text() for t in figure.findobj(lambda a: hasattr(a, "get_text"))]
    return " | ".join(text for text in found if text)


def bars(axes):
    return [c for c in axes.containers if isinstance(c, BarContainer)]


def test_a_few_lines_share_one_axes_and_say_their_names_and_means():
    values = np.array([[1.0, 5, np.nan, 2, 4, 3], [2, 2, 2, 9, 2, 2]])
    figure = draw([yearly(values)], "Rain", base=Base(2001, 2004))
    (axes,) = figure.axes
    lines = [line for line in axes.lines if line.get_linestyle() != "None"]
    drawn = [line for line in lines if len(line.get_xdata()) == 6]
    for line, row in zip(drawn, values, strict=True):
        np.testing.assert_array_equal(line.get_ydata(), row)
    level = [
        line.get_ydata()[0] for line in axes.lines if line.get_linestyle() not in ("-", "None")
    ]
    assert level == pytest.approx([np.nanmean(values[0, :4]), values[1, :4].mean()])
    said = words(figure)
    for text in (*REGIONS, "Rain", "mm", "1 of 12 values empty", "dotted: mean of 2001..2004"):
        assert text in said
    # A value between two gaps is a dot.
    alone = np.array([[np.nan, 4, np.nan] + [1.0] * 80])
    dots = [line for line in draw([yearly(alone)], "x").axes[0].lines if line.get_marker() == "o"]
    assert [list(d.get_ydata()) for d in dots] == [[4.0]]


def test_many_regions_have_a_panel_each_with_their_name():
    rng = np.random.default_rng(1)
    names = [f"Region {n}" for n in range(11)]
    figure = draw([monthly(rng.random((11, 24)), regions=names)], "Rain")
    shown = [axes for axes in figure.axes if axes.get_visible()]
    assert [axes.get_title(loc="left") or axes.get_title() for axes in shown] == names
    limits = {axes.get_ylim() for axes in shown}
    assert len(limits) == 1


def test_several_measures_are_told_apart_in_the_legend():
    rng = np.random.default_rng(2)
    figure = draw([monthly(rng.random((2, 12, 2)), measures=("mean", "p90"))], "Rain")
    assert "Upper Corran, p90" in words(figure)


def test_years_are_lines_over_the_year_with_the_band_of_the_base():
    rng = np.random.default_rng(3)
    values = rng.random((1, 120)) * 50
    figure = draw([monthly(values)], "Rain", "years", base=Base(2001, 2008))
    axes = figure.axes[0]
    grid = values[0].reshape(10, 12)
    (band,) = [c for c in axes.collections if isinstance(c, PolyCollection)]
    low = np.percentile(grid[:8], 10, axis=0, method="median_unbiased")
    corners = band.get_paths()[0].vertices
    assert corners[:, 1].min() == pytest.approx(low.min())
    last = max(axes.lines, key=lambda line: line.get_linewidth())
    np.testing.assert_array_equal(last.get_ydata(), grid[-1])
    median = next(line for line in axes.lines if line.get_linestyle() == "--")
    np.testing.assert_allclose(median.get_ydata(), np.median(grid[:8], axis=0))
    assert "10–90 % of 2001..2008" in words(figure)
    assert [t.get_text() for t in axes.get_xticklabels()][:3] == ["J", "F", "M"]


def test_totals_are_bars_that_name_their_records():
    values = np.array([[30.0, 80, 10, 40, np.nan]])
    figure = draw([yearly(values)], "Rain", "totals")
    axes = figure.axes[0]
    heights = [bar.get_height() for bar in bars(axes)[0]]
    np.testing.assert_array_equal(heights, values[0])
    assert {t.get_text() for t in axes.texts} >= {"2002", "2003"}
    mean = next(line for line in axes.lines if len(set(line.get_ydata())) == 1)
    assert mean.get_ydata()[0] == pytest.approx(40)
    assert "×: no value" in words(figure)
    with pytest.raises(RequestError, match="one period of each year"):
        draw([monthly(np.ones((1, 24)))], "Rain", "totals")


def test_a_matrix_has_years_down_months_across_and_gaps_hatched():
    values = np.arange(36.0).reshape(1, 36)
    values[0, 5] = np.nan
    figure = draw([monthly(values)], "Rain", "matrix")
    (mesh,) = figure.axes[0].findobj(QuadMesh)
    shown = np.ma.filled(mesh.get_array().reshape(3, 12), np.nan)
    np.testing.assert_array_equal(shown, values.reshape(3, 12))
    gaps = figure.axes[0].findobj(lambda a: isinstance(a, PolyCollection) and a.get_hatch())
    assert len(gaps[0].get_paths()) == 1
    assert "hatched: no value" in words(figure)
    assert figure.axes[0].yaxis_inverted()


def normals(values, unit="mm", combine="total", statistics=("mean", "std")):
    """A table of normals; `values` is (R, 12, S)."""
    return NORMALS.table(
        {
            "region": REGIONS[: len(values)],
            "period": [f"{n:02d}" for n in range(1, 13)],
            "base": "1991..2020",
            "variable": "rain",
            "measure": ["mean"],
            "combine": combine,
            "order": ["region"],
            "statistic": list(statistics),
            "value": np.asarray(values)[:, :, None, :],
            "unit": [unit],
            "years": np.full((len(values), 12, 1), 30.0),
        }
    )


def test_normals_of_totals_are_bars_and_of_means_a_line_in_a_band():
    rng = np.random.default_rng(4)
    values = rng.random((2, 12, 2)) * 20 + 20
    axes = draw([normals(values)], "Normals").axes[0]
    np.testing.assert_allclose([b.get_height() for b in bars(axes)[0]], values[0, :, 0])
    figure = draw([normals(values, "degC", "mean")], "Normals")
    axes = figure.axes[0]
    np.testing.assert_allclose(axes.lines[0].get_ydata(), values[0, :, 0])
    (band,) = [c for c in axes.collections if isinstance(c, PolyCollection)]
    top = (values[0, :, 0] + values[0, :, 1]).max()
    assert band.get_paths()[0].vertices[:, 1].max() == pytest.approx(top)
    assert "± std" in words(figure)
    spread = normals(np.sort(rng.random((1, 12, 3))), statistics=("p10", "mean", "p90"))
    assert "p10 to p90" in words(draw([spread], "Normals"))
    with pytest.raises(RequestError, match="needs the mean"):
        draw([normals(rng.random((1, 12, 1)), statistics=("std",))], "Normals")


def test_a_diagram_sets_rain_and_temperature_beside_each_other():
    rng = np.random.default_rng(5)
    rain, heat = rng.random((2, 12, 2)) * 90, rng.random((2, 12, 2)) * 9 + 4
    tables = [normals(heat, "degC", "mean"), normals(rain)]
    figure = draw(tables, "Climate")
    first = figure.axes[0]
    np.testing.assert_allclose([b.get_height() for b in bars(first)[0]], rain[0, :, 0])
    twins = [axes for axes in figure.axes if axes is not first and axes.lines]
    np.testing.assert_allclose(twins[0].lines[0].get_ydata(), heat[0, :, 0])
    assert "bars: mm, left" in words(figure)
    for wrong, said in (
        (tables[:1], "two tables"),
        ([tables[1], tables[1]], "rain and of temperature"),
    ):
        with pytest.raises(RequestError, match=said):
            draw(wrong, "Climate", "diagram")


NUMBERS = [c.name for c in ANOMALIES.columns if len(c.axes) == 4 and c.kind == "number"]


def anomalies(values, unit="mm"):
    """A table of anomalies by year; `values` is (R, P)."""
    values = np.asarray(values, float)
    years = range(2001, 2001 + values.shape[1])
    full = values[:, :, None, None]
    return ANOMALIES.table(
        {
            "region": REGIONS[: len(values)],
            "period": [str(y) for y in years],
            "start": np.array([[f"{y}-01-01"] for y in years], object),
            "end": [f"{y}-12-31" for y in years],
            "variable": "rain",
            "measure": ["mean"],
            "window": [1.0],
            "unit": [unit],
            "score_kind": "standard",
            "base": "2001..2004",
            "area_valid": np.ones((*values.shape, 1, 1)),
            "steps": np.ones((*values.shape, 1)),
            "steps_expected": np.ones((values.shape[1], 1)),
            "note": np.full(full.shape, "", object),
            **dict.fromkeys(
                (
                    *("value", "normal", "std", "anomaly", "percent_of_normal", "score"),
                    *("rank", "ranked_of", "years"),
                ),
                full,
            ),
        }
    )


@pytest.mark.parametrize(("unit", "above"), [("mm", ABOVE), ("degC", BELOW)])
def test_anomalies_are_bars_about_zero_in_the_colour_of_their_side(unit, above):
    values = np.array([[3.0, -2, np.nan, 1]])
    figure = draw([anomalies(values, unit)], "Anomalies")
    axes = figure.axes[0]
    shown = list(bars(axes)[0])
    np.testing.assert_array_equal([b.get_height() for b in shown], np.nan_to_num(values[0]))
    assert shown[0].get_facecolor() == to_rgba(above)
    assert shown[1].get_facecolor() != to_rgba(above)
    assert axes.get_ylim()[0] == -axes.get_ylim()[1]
    assert "1 of 4 periods without a value are hatched" in words(figure)
    matrix = draw([anomalies(values, unit)], "Anomalies", "matrix")
    (image,) = matrix.axes[0].get_images()  # one value a year: regions down and years across
    assert -2.9 > image.norm.vmin == -image.norm.vmax
    assert image.get_array().shape == (1, 4)


def test_counts_of_a_condition_are_drawn_as_a_series():
    values = np.arange(20.0).reshape(2, 5, 2)
    table = EXTREMES.table(
        {
            "region": REGIONS,
            "period": [str(2001 + n) for n in range(5)],
            "start": [f"{2001 + n}-01-01" for n in range(5)],
            "end": [f"{2001 + n}-12-31" for n in range(5)],
            "condition": ["rain >= 20 mm"],
            "variable": ["rain"],
            "tested_on": "cell",
            "count": ["days", "longest"],
            "value": values[:, :, None, :],
            "unit": np.array([["days", "days"]], object),
            "area_valid": np.ones((2, 5, 1)),
            "steps": np.full((2, 5, 1), 365.0),
            "steps_expected": np.full(5, 365.0),
            "note": np.full((2, 5, 1, 2), "", object),
        }
    )
    axes = draw([table], "Heavy rain").axes[0]
    drawn = [line.get_ydata().tolist() for line in axes.lines if len(line.get_xdata()) == 5]
    assert values[0, :, 0].tolist() in drawn
    assert values[1, :, 1].tolist() in drawn


def events(condition="tmax > p90", unit="degC"):
    """Three events of two regions."""
    return EVENTS.table(
        {
            "region": ["Upper Corran", "Upper Corran", "Otterslade"],
            "condition": [condition] * 3,
            "event": np.array([1.0, 2, 1]),
            "start": ["2001-01-05", "2002-02-01", "2002-02-03"],
            "end": ["2001-01-08", "2002-02-10", "2002-02-04"],
            "steps": np.array([4.0, 10, 2]),
            "variable": ["tmax"] * 3,
            "peak": np.array([33.0, 38, 31]),
            "peak_on": ["2001-01-06", "2002-02-05", "2002-02-03"],
            "unit": [unit] * 3,
            "total": np.full(3, np.nan),
            "total_unit": [""] * 3,
            "area_share": np.array([0.5, 0.8, 0.4]),
            "open": ["no", "no", "yes"],
        }
    )


@pytest.mark.parametrize("kind", ["timeline", "calendar", "longest"])
def test_events_are_drawn_by_region(kind):
    figure = draw([events()], "Heat", kind)
    said = words(figure)
    assert "Heat" in said
    assert all(name in said for name in REGIONS)
    if kind == "longest":
        assert "length, days" in said
        longest = [bar.get_width() for container in bars(figure.axes[0]) for bar in container]
        assert 10 in longest


def test_return_levels_are_a_curve_in_its_interval_with_the_years_it_was_fitted_to():
    from bavlo.jobs.return_levels import YearlyHighest

    years = np.array([2.0, 10, 50])
    level = np.array([[50.0, 80, 110], [40, 60, 75]])
    table = RETURN_LEVELS.table(
        {
            "region": REGIONS,
            "variable": "rain",
            "years": years,
            "value": level,
            "lower": level - 5,
            "upper": level + 9,
            "unit": "mm",
            "method": "gev lmoments",
            "n": np.full(2, 30.0),
        }
    )
    known = np.sort(np.random.default_rng(1).gumbel(50, 12, 30))
    highest = YearlyHighest(
        dict.fromkeys(REGIONS, known), dict.fromkeys(REGIONS, plotting_positions(30))
    )
    figure = draw([table], "Return levels", highest=highest)
    axes = figure.axes[0]
    curve = next(line for line in axes.lines if len(line.get_xdata()) == 3)
    np.testing.assert_array_equal(curve.get_ydata(), level[0])
    points = next(line for line in axes.lines if len(line.get_xdata()) == 30)
    np.testing.assert_array_equal(points.get_ydata(), known)
    assert "95 %" in words(figure)


def test_a_table_without_time_or_of_another_kind_has_no_such_chart():
    static = series(np.ones((2, 1)), ["static"], [""], [""])
    with pytest.raises(RequestError, match="no chart of a grid without time"):
        draw([static], "Height")
    with pytest.raises(RequestError, match="use lines, years, totals, matrix"):
        draw([monthly(np.ones((1, 12)))], "Rain", "bars")
    with pytest.raises(RequestError, match="draws one table"):
        draw([monthly(np.ones((1, 12)))] * 2, "Rain", "lines")


def test_every_kind_of_chart_names_a_function_that_there_is():
    from importlib import import_module

    for kind in DRAWINGS.values():
        module = import_module(f"bavlo.figures.{kind.module}")
        assert callable(getattr(module, kind.function))


@pytest.mark.parametrize("kind", ["png", "svg", "pdf"])
def test_the_same_figure_has_the_same_bytes(kind, tmp_path):
    made = []
    for n in range(2):
        path = tmp_path / f"{n}.{kind}"
        save(draw([yearly(np.ones((1, 5)))], "Rain"), path, kind)
        made.append(path.read_bytes())
    assert made[0] == made[1]


def test_names_are_cut_in_the_middle_and_scales_suit_what_is_above():
    assert shortened("short", 9) == "short"
    cut = shortened("Upper Corran and the lower Otterslade", 20)
    assert len(cut) <= 20
    assert cut.startswith("Upper")
    assert cut.endswith("slade")
    assert scale_for("mm", neutral=0.0)(1.0) != scale_for("degC", neutral=0.0)(1.0)


def test_very_many_regions_are_rows_of_a_matrix():
    from bavlo.figures import draw
    from bavlo.tables.schema import SERIES

    rng = np.random.default_rng(2)
    names = [f"region $n_{n}" for n in range(200)]
    periods = [f"{2001 + n}" for n in range(20)]
    values = rng.normal(size=(200, 20, 1))
    values[3, 4] = np.nan
    told = {
        "region": names,
        "period": periods,
        "start": [f"{p}-01-01" for p in periods],
        "end": [f"{p}-12-31" for p in periods],
        "variable": "rain",
        "measure": ["mean"],
        "value": values,
        "unit": ["mm"],
        "combine": "total",
        "order": ["region"],
        "area_valid": np.ones_like(values),
        "steps": np.ones((200, 20)),
        "steps_expected": np.ones(20),
        "note": np.full(values.shape, "", object),
    }
    figure = draw([SERIES.table(told)], "Rain")
    drawn = figure.axes[0].images[0].get_array()
    np.testing.assert_array_equal(np.ma.filled(drawn, np.nan), values[:, :, 0])
    labels = [text.get_text() for text in figure.axes[0].get_yticklabels()]
    assert labels[0] == names[0]
    assert labels[-1] == names[-1]
    assert 20 <= len(labels) <= 60
    assert draw([SERIES.table(told)], "Rain", "totals").axes[0].images
    many = monthly(values.repeat(12, 1)[:, :24], regions=names)
    with pytest.raises(RequestError, match="200 regions are too many for a panel each"):
        draw([many], "Rain", "years")


def trends(slope, significant):
    """A table of trends of a year, of the given slopes with intervals of two on either side."""
    slope = np.asarray(slope, float)[:, None, None]
    return TRENDS.table(
        {
            "region": [f"Region {n}" for n in range(len(slope))],
            "period": ["year"],
            "variable": ["rain"],
            "measure": ["mean"],
            "first": np.full(slope.shape, 1991.0),
            "last": np.full(slope.shape, 2020.0),
            "slope": slope,
            "lower": slope - 2,
            "upper": slope + 2,
            "confidence": 0.95,
            "unit": ["mm per decade"],
            "p_value": np.full(slope.shape, 0.5),
            "p_adjusted": np.where(np.asarray(significant)[:, None, None], 0.01, 0.5),
            "method": "sen",
            "n": np.full(slope.shape, 30.0),
            "note": np.full(slope.shape, "", object),
        }
    )


def test_slopes_of_very_many_regions_stand_in_their_order_with_the_ends_named():
    slope = np.random.default_rng(5).permutation(np.arange(300.0))
    slope[7] = np.nan
    strong = slope > 290
    figure = draw([trends(slope, strong)], "Trends", "slopes")
    axes = figure.axes[0]
    faint, coloured = [line for line in axes.lines if line.get_marker() == "o"]
    assert coloured.get_ydata().tolist() == sorted(slope[strong])
    assert len(faint.get_ydata()) + len(coloured.get_ydata()) == 299
    (band,) = [c for c in axes.collections if isinstance(c, PolyCollection)]
    assert band.get_datalim(axes.transData).intervaly.tolist() == [-2.0, 301.0]
    said = words(figure)
    assert f"Region {int(np.nanargmax(slope))}," in said
    assert f"the {int(strong.sum())} that are significant" in said
    assert "1 without a slope" in said
    assert "none is significant" in words(draw([trends(slope, slope < 0)], "T", "slopes"))


def test_a_panel_without_any_value_says_so():
    values = np.random.default_rng(6).random((11, 24))
    values[4] = np.nan
    figure = draw([monthly(values, regions=[f"Region {n}" for n in range(11)])], "Rain")
    silent = [axes for axes in figure.axes if "no value" in [t.get_text() for t in axes.texts]]
    assert [axes.get_title(loc="left") for axes in silent] == ["Region 4"]
    usual = np.ones((2, 12, 2))
    usual[1] = np.nan
    assert words(draw([normals(usual)], "Rain")).count("no value") == 1


class Pair:
    """Values of two sources."""

    names, starts, ends, units = ("A", "B"), ["2001-01-01"], ["2001-12-31"], ["mm"]

    def __init__(self, a, b):
        self.regions = [f"Region {n}" for n in range(len(a))]
        self.values = [np.asarray(v, float)[:, None, None] for v in (a, b)]


def test_two_sources_of_very_many_regions_are_one_cloud_and_those_without_a_pair_say_so():
    first = np.arange(100.0)
    cloud = draw([yearly(first[:, None])] * 2, "Rain", "scatter", matched=Pair(first, first + 2))
    assert "100 regions together" in words(cloud)
    assert "bias +2" in words(cloud)
    few = draw(
        [yearly(first[:3, None])] * 2, "Rain", "scatter", matched=Pair(first[:3], [1, np.nan, 3])
    )
    assert words(few).count("no value in common") == 1
    assert "nan" not in words(few)


@pytest.mark.parametrize(
    ("condition", "unit", "colour"),
    [
        ("rain >= 20 mm", "mm", WET),
        ("tmax > 35 degC", "degC", HEAT),
        ("tmin < 0 degC", "degC", WET),
    ],
)
def test_events_have_the_colours_of_what_they_are(condition, unit, colour):
    bar = bars(draw([events(condition, unit)], "Events", "longest").axes[0])[0][0]
    assert to_rgba(bar.get_facecolor()) in [to_rgba(c) for c in colour]


def test_shares_of_classes_are_bars_that_fill_the_area(tmp_path):
    table = CLASSES.table(
        {
            "region": ["a", "b"],
            "period": ["static"],
            "start": [""],
            "end": [""],
            "variable": "cover",
            "measure": ["share", "area"],
            "value": np.array([[[[0.25, 5], [0.75, 15]]], [[[1.0, 8], [0.0, 0]]]]),
            "unit": ["1", "km2"],
            "combine": "",
            "order": "region",
            "area_valid": np.ones((2, 1)),
            "steps": np.ones((2, 1)),
            "steps_expected": 1.0,
            "note": np.full((2, 1), "", object),
            "class": ["forest", "crops"],
        }
    )
    figure = draw([table], "Cover")
    widths = np.array([bar.get_width() for bar in figure.axes[0].patches]).reshape(2, 2)
    np.testing.assert_allclose(widths, [[0.25, 1], [0.75, 0]])
    assert [text.get_text() for text in figure.legends[0].get_texts()] == ["forest", "crops"]


DAYS = [[f"2001-01-0{n}" for n in (1, 2, 3)]] * 3


def test_a_figure_has_the_size_that_is_asked_for():
    with on_page((900, 500)):
        figure = draw([series(np.ones((2, 3)), *DAYS)], "Rain")
    assert figure.get_size_inches().tolist() == [9, 5]


@pytest.mark.parametrize(
    ("condition", "hot"),
    [("tmax > 35 degC", True), ("rain >= 20 mm", False), ("tmin < 0 degC", False), ("TX90p", True),
     ("tmax > p90", True), ("rain > p95", False)],
)  # fmt: skip
def test_counts_of_warm_conditions_are_known(condition, hot):
    table = series(np.ones((2, 3)), *DAYS)
    columns = [text_column("variable", (), [condition]) if c.name == "variable" else c
               for c in table.columns]  # fmt: skip
    assert counts_heat(Table(table.name, table.axes, tuple(columns))) == hot


def test_panels_share_one_scale_or_have_one_each():
    table = anomalies(np.array([[3.0, -2, 1, 1], [30, -20, 1, 1]]), "mm")
    together = [axes.get_ylim() for axes in draw([table], "Rain").axes]
    np.testing.assert_allclose(together, [[-31.5, 31.5]] * 2)
    with on_page(None, apart=True):
        apart = [axes.get_ylim() for axes in draw([table], "Rain").axes]
    np.testing.assert_allclose(apart, [[-3.15, 3.15], [-31.5, 31.5]])


def test_a_page_holds_only_what_html_may():
    page = Page("a\x01b\x1b[31m", "told \x0b & <b>", (), "0.1")
    text = render(page)
    assert not [c for c in text if ord(c) < 32 and c not in "\n\t\r"]
    assert r"a\x01b\x1b[31m" in text
    assert "&amp; &lt;b&gt;" in text
