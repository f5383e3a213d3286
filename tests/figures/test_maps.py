"""Maps: classes of values, colours of regions and cells, names and legends."""

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st
from matplotlib.collections import PathCollection, QuadMesh
from matplotlib.colors import to_rgba

from bavlo.errors import RequestError
from bavlo.figures.map_classes import class_limits
from bavlo.figures.map_content import GridWindow, MapContent
from bavlo.figures.maps import draw_map
from bavlo.figures.style import MISSING

SQUARES = np.array([shapely.box(x, 0, x + 1, 1) for x in range(4)], object)


def content(shown, **more):
    settings = {
        "title": "Rain",
        "unit": "mm",
        "caption": "2001",
        "panels": [str(n) for n in range(len(shown))],
        "shapes": SQUARES,
        "labels": ["north", "south", "east", "west"],
        "values": np.asarray(shown, float),
        "grid": None,
        "lonlat": True,
        "neutral": None,
    }
    return MapContent(**{**settings, **more})


def legend(figure):
    return [text.get_text() for text in figure.legends[0].get_texts()]


@given(
    st.lists(st.floats(-1e6, 1e6, width=32), min_size=1, max_size=40),
    st.sampled_from(["equal", "quantile"]),
    st.booleans(),
)
def test_classes_rise_and_hold_all_values(values, how, about_zero):
    limits = class_limits(np.array(values), how, neutral=0.0 if about_zero else None)
    assert (np.diff(limits) > 0).all()
    spread = max(values) - min(values) or 1
    assert limits[0] <= min(values) + 1e-6 * spread
    assert limits[-1] >= max(values) - 1e-6 * spread
    if about_zero and how == "equal" and min(values) < 0 < max(values):
        assert limits[0] == pytest.approx(-limits[-1])
    elif about_zero and how == "equal" and max(values) > min(values):
        assert limits[0] <= 1e-6 * spread or limits[-1] >= -1e-6 * spread  # from zero on


def test_limits_that_are_given_are_kept_and_what_lies_beyond_has_classes_of_its_own():
    values = np.array([-5.0, 20, 150])
    assert class_limits(values, "0,50,100", neutral=None).tolist() == [-5, 0, 50, 100, 150]
    assert class_limits(values, "-9,200", neutral=None).tolist() == [-9, 200]
    for wrong, said in (("5,1", "does not rise"), ("few", "is not known")):
        with pytest.raises(RequestError, match=said):
            class_limits(values, wrong, neutral=None)
    assert class_limits(np.array([np.nan]), "equal", neutral=None).tolist() == [0, 1]


def test_regions_have_the_colour_of_their_class_and_gaps_are_hatched():
    figure = draw_map(content([[1.0, 9, np.nan, 9]]), "0,5,10")
    filled, hatched = (
        c for c in figure.axes[0].collections if isinstance(c, PathCollection) and c.get_paths()
    )
    north, south, east, west = (tuple(color) for color in filled.get_facecolors())
    assert south == west != north
    assert east == to_rgba(MISSING)
    assert hatched.get_hatch()
    assert len(hatched.get_paths()) == 1
    texts = legend(figure)
    assert texts == ["5 to 10", "0 to 5", "no value"]
    named = {text.get_text() for text in figure.axes[0].texts}
    assert named == {"north", "south", "east", "west"}


def test_holes_and_parts_of_a_region_stay_open():
    ring = shapely.Polygon([(0, 0), (4, 0), (4, 4), (0, 4)], [[(1, 1), (2, 1), (2, 2), (1, 2)]])
    several = shapely.MultiPolygon([ring, shapely.box(5, 0, 6, 1)])
    figure = draw_map(
        content([[1.0]], shapes=np.array([several], object), labels=["a"]), "quantile"
    )
    paths = next(c for c in figure.axes[0].collections if isinstance(c, PathCollection))
    (path,) = paths.get_paths()
    starts = np.flatnonzero(path.codes == path.MOVETO)
    areas = []
    for ring in np.split(path.vertices, starts[1:]):  # what a ring turns round, by its sense
        x, y = ring.T
        areas.append((x * np.roll(y, -1) - np.roll(x, -1) * y).sum() / 2)
    assert areas == [16, -1, 1]


def test_several_periods_have_a_panel_each_in_one_scale():
    figure = draw_map(content([[1.0, 2, 3, 4], [5, 6, 7, 8]], panels=["2001", "2002"]))
    shown = [axes for axes in figure.axes if axes.get_visible()]
    assert [axes.get_title(loc="left") or axes.get_title() for axes in shown] == ["2001", "2002"]
    assert "7 to 8" in legend(figure)[0] or "8" in legend(figure)[0]
    with pytest.raises(RequestError, match="37 maps do not fit"):
        draw_map(content(np.ones((37, 4))))


def test_maps_of_different_periods_have_one_legend_where_classes_are_of_all_periods():
    years = np.array([[1.0, 2, 3, 4], [5, 6, 7, 8]])
    first, second = (draw_map(content([year], scaled=years)) for year in years)
    assert legend(first) == legend(second)
    assert len(legend(first)) > len(legend(draw_map(content([years[0]]))))


def test_cells_are_coloured_where_there_is_no_table_and_grey_beneath_one():
    window = GridWindow(np.arange(5.0), np.arange(2.0), np.array([[[1.0, 2, np.nan, 4]]]))
    figure = draw_map(content([[1.0]], values=None, grid=window, shapes=None, labels=()))
    (mesh,) = figure.axes[0].findobj(QuadMesh)
    assert np.ma.getmaskarray(mesh.get_array()).ravel().tolist() == [False, False, True, False]
    beneath = draw_map(content([[1.0, 2, 3, 4]], grid=window))
    (grey,) = beneath.axes[0].findobj(QuadMesh)
    low, high = grey.cmap(0.0), grey.cmap(1.0)
    assert low[0] > high[0]
    outlines = draw_map(content([[1.0]], values=None, grid=window))
    (shapes,) = (c for c in outlines.axes[0].collections if isinstance(c, PathCollection))
    assert not shapes.get_facecolors().size


def test_a_map_in_degrees_is_as_wide_as_it_is_there():
    far_south = np.array([shapely.box(0, -61, 1, -59)], object)
    figure = draw_map(content([[1.0]], shapes=far_south, labels=["a"]))
    assert figure.axes[0].get_aspect() == pytest.approx(2, rel=0.01)
    plane = draw_map(content([[1.0]], shapes=far_south, labels=["a"], lonlat=False))
    assert plane.axes[0].get_aspect() == 1


def test_names_that_find_no_room_are_counted_and_left_out_where_most_find_none():
    def said_of(count, words):
        shapes = [shapely.box(x / count, 0, (x + 1) / count, 1) for x in range(count)]
        names = [words.format(n) for n in range(count)]
        figure = draw_map(
            content([np.arange(float(count))], shapes=np.array(shapes, object), labels=names)
        )
        written = [text.get_text() for text in figure.axes[0].texts]
        return " ".join(text.get_text() for text in figure.texts), written

    said, written = said_of(50, "a rather long name {}")
    assert "too many names for the map" in said
    assert not written
    said, written = said_of(12, "name {0} of it")
    assert f"{12 - len(written)} names left out for want of room" in said or len(written) == 12


def test_points_are_circles_in_the_colour_of_their_value():
    points = shapely.points([[0, 0], [1, 0], [0, 1]])
    figure = draw_map(content([[1.0, np.nan, 3.0]], shapes=points, labels=["a", "b", "c"]), "0,2,4")
    known, unknown = figure.axes[0].findobj(PathCollection)
    assert known.get_offsets().tolist() == [[0, 0], [0, 1]]
    assert len(np.unique(known.get_facecolor(), axis=0)) == 2
    assert unknown.get_offsets().tolist() == [[1, 0]]
    assert len(unknown.get_facecolor()) == 0


def test_regions_that_the_table_does_not_hold_are_outlines_and_all_classes_are_listed():
    shapes = np.array([shapely.box(x, 0, x + 1, 1) for x in range(3)], object)
    figure = draw_map(
        content([[1.0, np.nan, 9.0]], shapes=shapes, labels=["a", "b", "c"],
                held=np.array([True, False, True])), "0,2,4,6,8,10",
    )  # fmt: skip
    listed = [text.get_text() for text in figure.legends[0].get_texts()]
    classes = ["8 to 10", "6 to 8", "4 to 6", "2 to 4", "0 to 2"]
    assert listed == [*classes, "not in the table"]


def test_classes_of_regions_have_the_names_and_colours_of_their_file():
    shapes = np.array([shapely.box(x, 0, x + 1, 1) for x in range(3)], object)
    figure = draw_map(
        content([[5.0, 1.0, 5.0]], shapes=shapes, labels=["a", "b", "c"],
                categories=((1, "forest", "#112233"), (2, "lake", "#445566"),
                            (5, "rock", "#778899"))),
    )  # fmt: skip
    listed = [text.get_text() for text in figure.legends[0].get_texts()]
    assert listed == ["forest", "rock"]


def test_longitudes_and_latitudes_stand_at_the_edge_and_a_bar_where_there_are_metres():
    shapes = np.array([shapely.box(-1, 50, 1, 52)], object)
    axes = draw_map(content([[1.0]], shapes=shapes, labels=["a"])).axes[0]
    texts = [tick.get_text() for tick in axes.get_xticklabels()]
    assert {"1.0°W", "0.0°", "1.0°E"} <= set(texts) or {"1°W", "0°", "1°E"} <= set(texts)
    metres = np.array([shapely.box(0, 0, 100_000, 80_000)], object)
    axes = draw_map(content([[1.0]], shapes=metres, labels=["a"], lonlat=False)).axes[0]
    assert any(text.get_text() == "20 km" for text in axes.texts)


def test_names_with_dollars_and_control_characters_are_drawn_as_they_stand(tmp_path):
    from bavlo.figures.style import save

    shapes = np.array([shapely.box(0, 0, 1, 1)], object)
    odd = "$\\frac{1}$ a\x1b[31m\n_b_ $"
    figure = draw_map(content([[1.0]], shapes=shapes, labels=[odd], title=odd * 8, unit="$x$"))
    save(figure, tmp_path / "a.svg", "svg")
    save(figure, tmp_path / "a.png", "png")
    drawn = (tmp_path / "a.svg").read_text()
    assert "$\\frac{1}$ a\\x1b[31m" in drawn
    assert "\x1b" not in drawn
