"""The packer of true shapes: nothing overlaps, gutters hold, sheets fill as far as they should, one layout comes out."""

import numpy as np
import pytest
from scipy.ndimage import distance_transform_edt

from oaktrim.core.makers.atlas.layout import CELL, ChartSet, OneFactor, Wanted, arranged
from oaktrim.core.makers.atlas.silhouettes import border_of, silhouettes
from oaktrim.core.progress import finish


def stars(count, seed=0, low=10, high=90):
    """Return star-shaped polygons of many sizes as fans of triangles."""
    rng = np.random.default_rng(seed)
    corners, chart = [], []
    for place in range(count):
        points = int(rng.integers(5, 12))
        angles = np.linspace(0, 2 * np.pi, points, endpoint=False)
        radius = np.exp(rng.uniform(np.log(low), np.log(high))) / 2 * rng.uniform(0.55, 1, points)
        ring = np.stack([np.cos(angles), np.sin(angles)], axis=1) * radius[:, None] + rng.uniform(50, 1000, 2)
        middle = ring.mean(axis=0)
        corners.append(np.stack([np.broadcast_to(middle, ring.shape), ring, np.roll(ring, -1, axis=0)], axis=1))
        chart.append(np.full(points, place))
    return ChartSet(np.concatenate(corners), np.concatenate(chart), count)


def owners(charts, layout, sheet):
    """Return which chart each texel of a sheet lies in, -1 for none, by the middles of texels; and how often one lies in two."""
    found = np.full((layout.height, layout.width), -1)
    doubles = 0
    for t, triangle in enumerate(charts.corners):
        number = charts.chart[t]
        if layout.on[number] != sheet:
            continue
        matrix = layout.matrices()[number]
        a, b, c = triangle @ matrix[:, :2].T + matrix[:, 2]
        low, high = np.floor(np.min([a, b, c], axis=0)).astype(int), np.ceil(np.max([a, b, c], axis=0)).astype(int)
        assert low.min() >= 0 and high[0] <= layout.width and high[1] <= layout.height
        y, x = np.mgrid[low[1] : high[1], low[0] : high[0]] + 0.5
        sides = [(q[0] - p[0]) * (y - p[1]) - (q[1] - p[1]) * (x - p[0]) for p, q in ((a, b), (b, c), (c, a))]
        inside = np.all(np.array(sides) > 0, axis=0) | np.all(np.array(sides) < 0, axis=0)
        part = found[low[1] : high[1], low[0] : high[0]]
        doubles += int((inside & (part >= 0) & (part != number)).sum())
        part[inside] = number
    return found, doubles


@pytest.mark.parametrize(("turns", "free", "sheets", "gutter"), [(4, False, 1, 8), (1, False, 2, 4), (4, True, 1, 16)])
def test_islands_keep_their_distance(turns, free, sheets, gutter):
    charts = stars(60, seed=turns)
    layout = finish(arranged(charts, OneFactor(charts.count), Wanted(256, sheets, True, gutter, turns, free)))
    again = finish(arranged(charts, OneFactor(charts.count), Wanted(256, sheets, True, gutter, turns, free)))
    np.testing.assert_array_equal(layout.places, again.places)
    assert set(np.unique(layout.on)) == set(range(sheets)) and len(np.unique(layout.scales)) == 1
    for sheet in range(sheets):
        found, doubles = owners(charts, layout, sheet)
        assert doubles == 0
        for number in np.unique(found[found >= 0]):
            away = distance_transform_edt(found != number)
            others = (found >= 0) & (found != number)
            if others.any():
                # Middles of texels that lie a gutter apart are at least that less the half texels of both.
                assert away[others].min() >= gutter - 1.5


@pytest.mark.parametrize(("count", "size", "least"), [(185, 1024, 0.80), (1103, 2048, 0.82)])
def test_sheets_are_filled(count, size, least):
    charts = stars(count, seed=3)
    charts = ChartSet(charts.corners * 8, charts.chart, charts.count)
    layout = finish(arranged(charts, OneFactor(charts.count), Wanted(size, gutter=4, square=True)))
    assert (layout.width, layout.height) == (size, size) and layout.occupancy >= least


def test_a_shape_in_the_hole_of_another():
    """True shapes: a frame, and a square that only its hole has room for."""
    outer, inner = 240.0, 200.0
    ring = []
    for (x0, y0), (x1, y1) in (
        ((0, 0), (outer, 20)),
        ((0, 220), (outer, outer)),
        ((0, 20), (20, 220)),
        ((220, 20), (outer, 220)),
    ):
        ring += [[[x0, y0], [x1, y0], [x1, y1]], [[x0, y0], [x1, y1], [x0, y1]]]
    square = [[[0, 0], [inner - 40, 0], [inner - 40, inner - 40]], [[0, 0], [inner - 40, inner - 40], [0, inner - 40]]]
    charts = ChartSet(np.array(ring + square), np.array([0] * 8 + [1] * 2), 2)
    layout = finish(arranged(charts, OneFactor(charts.count), Wanted(256, square=True)))
    np.testing.assert_array_equal(layout.scales, 1.0)
    assert owners(charts, layout, 0)[1] == 0


def test_cells_hold_every_texel_with_its_margin():
    charts = stars(20, seed=8)
    lattice = np.full(20, CELL)
    found = silhouettes(charts.corners, charts.chart, np.full(20, 0.5), 4.0, CELL, lattice)
    for chart in range(20):
        grid, origin = found.grid(chart), found.origins[chart]
        points = charts.corners[charts.chart == chart].reshape(-1, 2) * 0.5
        for shift in ((0, 0), (3.9, 0), (-3.9, 3.9), (0, -3.9)):
            column, row = ((points + shift - origin) // CELL).astype(int).T
            assert grid[row, column].all()
        assert not grid[:, 0].any() or border_of(4.0) <= 8
