"""Fewer keys within a bound that holds wherever it is looked at, told apart from what computes it by the scene's own poses."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oaktrim.core.scene.model import Animation, Model, Node, Track
from oaktrim.core.scene.pose import posed
from oaktrim.core.trim.motion import Curve, Hierarchy, MotionBound, reduce_motion

TIMES = np.round(np.arange(121) / 60, 6).astype(np.float32).astype(np.float64)


def hierarchy(parents, length=0.3, carried=0.2):
    """A tree of bones; each carries a box around its own length."""
    count = len(parents)
    move = np.array([[0, length if parent >= 0 else 0, 0] for parent in parents], np.float64)
    local = np.tile(np.eye(4), (count, 1, 1))
    local[:, :3, 3] = move
    box = np.array([[x, y, z] for x in (-carried, carried) for y in (0, length) for z in (-carried, carried)])
    rest = (move, np.tile([0, 0, 0, 1.0], (count, 1)), np.ones((count, 3)))
    return Hierarchy(parents, rest, local, [box] * count)


def turning(node, seed, size=0.5, times=TIMES):
    rng = np.random.default_rng(seed)
    axis = rng.normal(size=3)
    axis /= np.linalg.norm(axis)
    angle = sum(size * rng.normal() * np.sin(rng.uniform(0.5, 9) * times + rng.uniform(0, 6)) for _ in range(3))
    turns = np.concatenate([axis * np.sin(angle / 2)[:, None], np.cos(angle / 2)[:, None]], axis=1)
    # A rotation has two quaternions, and exporters change between them.
    turns[len(turns) // 3 :] *= -1
    return Curve(node, "rotation", times, turns.astype(np.float32).astype(np.float64), "LINEAR")


def as_model(tree, curves):
    children = [tuple(c for c, p in enumerate(tree.parents) if p == n) for n in range(len(tree.parents))]
    nodes = tuple(Node(str(n), None, children[n], tree.local[n]) for n in range(len(tree.parents)))
    tracks = tuple(
        Track(
            c.node, c.path, c.times.astype(np.float32),
            (c.values.reshape(len(c.times), 3, -1) if c.interpolation == "CUBICSPLINE" else c.values).astype(np.float32),
            c.interpolation,
        )
        for c in curves if c is not None
    )  # fmt: skip
    roots = tuple(n for n, p in enumerate(tree.parents) if p < 0)
    return Model("glb", "", roots, nodes, (), (), ()), Animation("clip", 2.0, len(tracks), 0, 0, tracks)


def farthest(tree, before, after, times):
    """Return how far anything that is carried comes to stand from where it stood, metres, by the scene's own poses."""
    one, other = as_model(tree, before), as_model(tree, after)
    far = 0.0
    for seconds in times:
        a, b = posed(*one, seconds), posed(*other, seconds)
        for node, points in enumerate(tree.probes):
            there = points @ (a[node] - b[node])[:3, :3].T + (a[node] - b[node])[:3, 3]
            far = max(far, float(np.sqrt(np.square(there).sum(axis=1)).max()))
    return far


@given(st.integers(0, 10_000), st.sampled_from([0.2, 1.0, 10.0]))
@settings(max_examples=12)
def test_all_that_is_moved_keeps_within_the_bound(seed, millimetres):
    tree = hierarchy([-1, 0, 1, 2, 1, 4])
    curves = [turning(node, seed + node) for node in range(6)]
    found = reduce_motion(curves, tree, MotionBound(millimetres, 5.0))
    assert found.after < found.before and found.distance.max() * 1000 <= millimetres
    times = np.random.default_rng(seed).uniform(0, 2, 40)
    assert farthest(tree, curves, found.curves, [*times, *TIMES[::9]]) * 1000 <= millimetres * 1.02
    kept = {time for curve in found.curves if curve is not None for time in curve.times}
    assert kept <= set(TIMES)


def test_what_is_reported_is_what_the_poses_say():
    tree = hierarchy([-1, 0, 1])
    curves = [turning(node, node) for node in range(3)]
    found = reduce_motion(curves, tree, MotionBound(3.0, 5.0))
    at = found.times[found.worst]
    assert farthest(tree, curves, found.curves, [at]) == pytest.approx(found.distance.max(), rel=1e-4)
    assert 0 <= found.nodes[found.worst] < 3


def test_a_wider_bound_needs_fewer_keys():
    tree = hierarchy([-1, 0, 1, 2])
    curves = [turning(node, 7 + node) for node in range(4)]
    counts = [reduce_motion(curves, tree, MotionBound(mm, 10.0)).after for mm in (0.1, 1, 5, 50)]
    assert counts == sorted(counts, reverse=True) and counts[0] > 2 * counts[-1]


def test_a_root_needs_more_keys_than_a_fingertip():
    """The same wobble is farther off where more hangs on it."""
    tree = hierarchy([-1, 0, 1, 2, 3, 4])
    wobble = turning(0, 3)
    ends = Curve(5, "rotation", wobble.times, wobble.values, "LINEAR")
    keys = [len(curve.times) for curve in reduce_motion([wobble, ends], tree, MotionBound(2.0, 20.0)).curves]
    assert keys[0] > 1.5 * keys[1]


def test_degrees_hold_where_nothing_is_far():
    tree = hierarchy([-1], length=1e-3, carried=1e-4)
    found = reduce_motion([turning(0, 1)], tree, MotionBound(5.0, 0.5))
    assert np.degrees(found.angle.max()) <= 0.5 and found.after > 10


def test_what_stands_still_goes_and_steps_stay():
    tree = hierarchy([-1, 0])
    rest = Curve(1, "translation", TIMES, np.tile(tree.rest[0][1], (121, 1)), "LINEAR")
    aside = Curve(0, "translation", TIMES, np.tile([0.4, 0, 0], (121, 1)), "LINEAR")
    blink = np.where(np.arange(121) % 40 < 20, 1.0, 0.25)
    steps = Curve(1, "scale", TIMES, np.repeat(blink[:, None], 3, axis=1), "STEP")
    found = reduce_motion([rest, aside, steps], tree, MotionBound(1.0, 1.0))
    assert found.curves[0] is None
    assert len(found.curves[1].times) == 1 and found.curves[2].interpolation == "STEP"
    assert np.array_equal(found.curves[2].times, TIMES[[0, 20, 40, 60, 80, 100, 120]])
    assert found.distance.max() == 0


def test_cubic_curves_are_straightened_where_that_is_smaller():
    tree = hierarchy([-1, 0])
    rng = np.random.default_rng(2)
    values = rng.normal(0, 0.2, (121, 9))
    values[:, [0, 1, 2, 6, 7, 8]] = 0
    values[:, 3:6] = np.cumsum(values[:, 3:6] * 0.01, axis=0)
    dense = Curve(0, "translation", TIMES, values, "CUBICSPLINE")
    found = reduce_motion([dense], tree, MotionBound(5.0, 1.0))
    assert found.distance.max() <= 5e-3
    few = Curve(0, "translation", TIMES[[0, 60, 120]], values[[0, 60, 120]] * 200, "CUBICSPLINE")
    kept = reduce_motion([few], tree, MotionBound(0.01, 1.0)).curves[0]
    assert kept is few


def test_a_bound_that_16_bits_cannot_keep_is_kept_in_floats():
    tree = hierarchy([-1, 0], length=400.0)
    found = reduce_motion([turning(0, 4)], tree, MotionBound(2.0, 1.0))
    assert not found.short and found.distance.max() * 1000 <= 2.0


@pytest.mark.parametrize("bound", [(0, 1), (1001, 1), (1, 0), (1, 91)])
def test_bounds_that_cannot_be(bound):
    with pytest.raises(ValueError, match="not"):
        MotionBound(*bound)
