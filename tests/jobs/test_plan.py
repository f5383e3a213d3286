"""What is settled before the first value is read: weights, periods, combining, derived grids."""

import numpy as np
import pytest
import shapely

from bavlo.core.space.layout import GridLayout
from bavlo.core.space.regions import Regions, region_edges
from bavlo.core.space.shared_areas import overlay
from bavlo.core.time.axis import DAY, to_instant
from bavlo.core.time.periods import PeriodAxis
from bavlo.core.time.steps import time_axis
from bavlo.core.values.combine import AS_USUAL, MEAN, TOTAL, parse_combine
from bavlo.core.values.kinds import Variable, quantity, total_unit_of
from bavlo.errors import BavloError, InputError, RequestError
from bavlo.jobs.opening import open_grids, open_one, open_source
from bavlo.jobs.periods import choose_combine, choose_periods, reported_periods, rules_of
from bavlo.jobs.regions import check_overlap, further_weights, open_regions, overlay_of
from bavlo.jobs.rules import check_length
from bavlo.jobs.wording import counted, extent_text, listed, some_of
from bavlo.regions import loading
from bavlo.request.filling import make_request
from bavlo.request.reporter import SilentReporter
from support import box, daily, write_grid, write_regions


@pytest.fixture
def rain(tmp_path):
    """Two years of daily rain on two rows of three cells."""
    return write_grid(tmp_path / "rain.nc", np.ones((730, 2, 3)))


def request_of(*grids, command="series", **options):
    given = {name.replace("_", "-"): value for name, value in options.items()}
    return make_request(command, {"grids": [str(grid) for grid in grids], **given})


def shared_with(shape, layout):
    return overlay(region_edges(np.array([shape], object)), layout)


def test_people_weigh_by_the_share_of_their_cell_and_densities_by_area(rain, tmp_path):
    source = open_one(request_of(rain), SilentReporter())
    shared = shared_with(box(0.5, 0, 3, 2), source.layout)
    people = write_grid(
        tmp_path / "p.nc", np.arange(6.0).reshape(2, 3), name="p", unit="people", time=False
    )
    reporter = SilentReporter()
    weights = further_weights(
        request_of(rain, weight=str(people)).measuring, source, shared, reporter
    )
    assert weights.is_count
    assert weights.name == "p"
    assert weights.values.tolist() == [0, 1, 2, 3, 4, 5]
    assert "a number per cell" in reporter.notes[0]
    share = write_grid(tmp_path / "s.nc", np.ones((2, 3)), name="crop", unit="%", time=False)
    asked = request_of(rain, weight=str(share)).measuring
    assert not further_weights(asked, source, shared, reporter).is_count
    none = further_weights(request_of(rain).measuring, source, shared, reporter)
    assert (none.name, none.values) == (None, None)


@pytest.mark.parametrize(
    ("values", "unit", "said"),
    [
        (-np.ones((2, 3)), "people", "has values below 0"),
        (np.zeros((2, 3)), "people", "is 0 or missing in all regions"),
        (np.ones((2, 3)), "lumps", "is no unit|does not tell whether"),
        (np.ones((2, 3)), "m", "does not tell whether it is a count per cell or a density"),
    ],
)
def test_weights_that_cannot_be_are_refused(rain, tmp_path, values, unit, said):
    source = open_one(request_of(rain), SilentReporter())
    shared = shared_with(box(0, 0, 3, 2), source.layout)
    path = write_grid(tmp_path / "w.nc", values, name="w", unit=unit, time=False)
    with pytest.raises(BavloError, match=said):
        further_weights(
            request_of(rain, weight=str(path)).measuring, source, shared, SilentReporter()
        )


def test_steps_are_combined_as_suits_their_kind(rain):
    source = open_one(request_of(rain), SilentReporter())
    amount, state = (quantity(Variable(n, u), "f") for n, u in (("rain", "mm"), ("tas", "K")))
    time = request_of(rain).time
    assert time.combine is AS_USUAL or time.combine == AS_USUAL
    assert choose_combine(time, amount, source) == TOTAL
    assert choose_combine(time, state, source) == MEAN
    asked = request_of(rain, combine="total").time
    with pytest.raises(BavloError, match="a state in K has no total over time"):
        choose_combine(asked, state, source)
    assert total_unit_of(amount, TOTAL) == "mm"
    degrees = parse_combine("degree-days below 5 degC").degree_days
    assert (degrees.above, degrees.total_unit) == (False, "degC day")
    rules = rules_of(request_of(rain, combine="degree-days above 283.15 K"), TOTAL, state)
    np.testing.assert_allclose(rules.degrees.of(np.array([280.0, 290, np.nan])), [0, 6.85, np.nan])


def test_periods_that_are_cut_are_named_and_those_before_a_window_are_read(rain):
    axis = daily(730)
    chosen = choose_periods(
        request_of(rain, during="2001-03-15..2001-08", window=["3"]).time, axis, "rain.nc"
    )
    assert chosen.left_out == ("2001-03",)
    assert chosen.lead == 2
    assert chosen.axis.labels[0] == "2001-02"
    assert chosen.axis.labels[-1] == "2001-08"
    year = choose_periods(request_of(rain, every="all", during="2002").time, axis, "rain.nc")
    assert year.axis.bounds_text() == (["2002-01-01"], ["2002-12-31"])
    running = choose_periods(
        request_of(rain, every="year", combine="running", during="2002-02").time, axis, "rain.nc"
    )
    assert running.lead == 31
    assert len(running.axis) == 59
    months = choose_periods(request_of(rain).time, axis, "rain.nc").axis
    assert reported_periods(request_of(rain, during="2002").time, months).tolist() == [
        *range(12, 24)
    ]
    with pytest.raises(BavloError, match="has no time axis"):
        choose_periods(request_of(rain, every="year").time, None, "z.tif")


def test_grids_are_named_made_of_others_and_chosen(rain, tmp_path):
    tmax = write_grid(tmp_path / "tmax.nc", np.full((700, 2, 3), 20.0), name="tmax", unit="degC")
    tmin = write_grid(tmp_path / "tmin.nc", np.full((730, 2, 3), 10.0), name="tmin", unit="degC")
    reporter = SilentReporter()
    request = request_of(tmax, tmin, command="extremes")
    with pytest.raises(BavloError, match="has no variable 'tmax'"):
        open_grids(request, reporter)  # without names they are the files of one grid
    named = [f"tmax={tmax}", f"tmin={tmin}"]
    made = request_of(*named, make=["mean = (tmax + tmin) / 2"])
    found = open_grids(made, reporter)
    assert list(found) == ["tmax", "tmin", "mean"]
    assert len(found["mean"].time) == 700
    assert "30 steps are left out" in reporter.warnings[0]
    source, what = open_source(made, reporter)
    assert source.variable.name == "mean"
    assert what.kind == "state"
    with pytest.raises(BavloError, match="several grids were given: tmax, tmin"):
        open_one(request_of(*named), reporter)
    with pytest.raises(BavloError, match="there is no grid snow"):
        open_grids(request_of(*named, make=["x = snow * 2"]), reporter)
    with pytest.raises(BavloError, match="there is a grid tmax already"):
        open_grids(request_of(*named, make=["tmax = tmin * 2"]), reporter)


def test_regions_off_the_grid_are_warned_of_and_none_on_it_is_an_error(rain, tmp_path):
    source = open_one(request_of(rain), SilentReporter())
    shapes = {"in": box(0, 0, 1, 1), "partly": box(2, 1, 4, 3), "off": box(50, 5, 51, 6)}
    path = write_regions(tmp_path / "r.geojson", shapes)
    reporter = SilentReporter()
    asked = request_of(rain, regions=str(path))
    regions = open_regions(asked.regions, reporter)
    shared = overlay_of(regions.regions, source.layout, "cell")
    check_overlap(source, regions, shared, reporter)
    assert "1 region outside the grid without values: off" in reporter.warnings[0]
    assert "partly outside the grid" in reporter.warnings[1]
    far = open_regions(request_of(rain, regions=str(path), only=["off"]).regions, reporter)
    nothing = overlay_of(far.regions, source.layout, "cell")
    with pytest.raises(InputError, match=r"the grid covers 0\.\.3 by 0\.\.2, the regions 50"):
        check_overlap(source, far, nothing, reporter)
    points = Regions(("p",), np.array([shapely.Point(1.5, 0.5)], object))
    assert overlay_of(points, source.layout, ["bilinear"]).entries.tolist() == [1]


def test_lists_counts_and_extents_are_put_into_words():
    assert some_of(["a", "b"]) == "a, b"
    assert some_of(list("abcdefg"), 3) == "a, b, c and 4 more"
    assert listed(["mean"]) == "mean"
    assert listed(["mean", "p90", "max"]) == "mean, p90 and max"
    assert [counted(1, "class"), counted(3, "class"), counted(2, "region")] == [
        "1 class",
        "3 classes",
        "2 regions",
    ]
    layout = GridLayout(np.array([0.5, 1]), np.array([-2.0, 3]))
    assert extent_text(layout.extent) == "0.5..1 by -2..3"


def test_the_vector_library_loads_with_data_frames_where_others_may_want_them():
    assert loading.vector_library().raw
    loading.nobody_needs_frames()
    assert loading.vector_library().raw


@pytest.mark.parametrize(
    ("days", "kind"),
    [(1, "day"), (5, "pentad"), (6, "dekad"), (8, "dekad"), (10, "dekad"), (16, "month"),
     (92, "season"), (180, "year"), (365, "year")],
)  # fmt: skip
def test_a_period_shorter_than_the_steps_is_refused_with_one_that_there_is(days, kind):
    stamps = to_instant("standard", 2001, 1, 1) + np.arange(4) * days * DAY
    time = time_axis(stamps, np.stack([stamps, stamps + days * DAY], axis=1), "standard", None)
    hours = PeriodAxis(("h",), ("h",), stamps[:1], stamps[:1] + DAY // 24, "standard")
    with pytest.raises(RequestError, match=f"every='{kind}' or longer"):
        check_length(time, hours, "hour")
