"""The renderer held to a real OpenGL driver that draws the same triangles: ids, depth, UVs, filtered samples, the fill rule."""

from dataclasses import replace

import numpy as np
import pytest

from oaktrim.core.progress import finish
from oaktrim.core.render.camera import Camera
from oaktrim.core.render.picture import footprints
from oaktrim.core.scene.model import Primitive, Surface
from oaktrim.core.scene.slots import Slot
from tests.kit.driver import Drawer
from tests.kit.scenes import drawn, material, scene_of, triangles

SIZE = (320, 200)
FAR = Camera((0.0, 0.0, 3.5), (0.0, 0.0, 0.0), near=0.1, far=20.0)
INSIDE = Camera((0.3, 0.2, 0.5), (0.0, 0.0, -0.5), near=0.1, far=20.0)
TALL = replace(FAR, yfov=0.0, height=2.0)
SHIFTED = replace(FAR, shift=(0.4, -0.3))


class Flat(Camera):
    """Takes points as they are, in clip space."""

    def to_clip(self, aspect):
        return np.eye(4)


@pytest.fixture(scope="module")
def drawer(driver):
    return Drawer(driver)


def soup(count=3000, seed=3):
    random = np.random.default_rng(seed)
    middles = random.uniform(-1, 1, (count, 1, 3)) * [2, 1.4, 2]
    points = (middles + random.normal(0, 0.12, (count, 3, 3))).astype(np.float32)
    return points, random.uniform(-1, 2, (count, 3, 2)).astype(np.float32)


@pytest.mark.parametrize("both", [False, True], ids=["culled", "two-sided"])
@pytest.mark.parametrize("camera", [FAR, INSIDE, TALL, SHIFTED], ids=["far", "inside", "orthographic", "off-centre"])
def test_what_is_seen_and_where_is_what_the_driver_draws(drawer, camera, both):
    points, uvs = soup()
    scene = scene_of([triangles(points, uvs)], [material(surface=Surface(two_sided=both))])
    mine = drawn(scene, camera, SIZE)
    prints = finish(footprints(scene, camera, SIZE))
    rows = np.arange(points.size // 3).reshape(-1, 3)
    matrix = camera.to_clip(SIZE[0] / SIZE[1])
    ids, facts, _ = drawer.draw(points.reshape(-1, 3), uvs.reshape(-1, 2), rows, matrix, SIZE, cull=not both)
    same = ids == mine.ids
    assert (ids >= 0).mean() > 0.2
    ties = np.abs(facts[..., 0] - mine.depth) < 1e-6
    assert (same | ties).mean() >= 0.9999
    assert same.mean() > 0.999
    seen = same & (ids >= 0)
    assert np.abs(facts[..., 0] - mine.depth)[seen].max() < 2e-6
    assert (prints.ids == mine.ids).all()
    apart = np.abs(facts[..., 1:3] - prints.uvs[..., 0, :2])[seen]
    assert np.median(apart) < 2e-6 and np.quantile(apart, 0.999) < 2e-3


@pytest.mark.parametrize("step", [8.0, 7.5, 8.5])
@pytest.mark.parametrize("start", [0.5, 0.0])
def test_meshes_on_pixel_centres_and_corners_have_no_holes_and_no_double_hits(drawer, step, start):
    side = 24
    x, y = np.meshgrid(np.arange(side + 1) * step + start, np.arange(side + 1) * step + start)
    points = (
        np.stack([x / SIZE[0] * 2 - 1, 1 - y / SIZE[1] * 2, np.zeros_like(x)], -1).reshape(-1, 3).astype(np.float32)
    )
    first = (np.arange(side)[:, None] * (side + 1) + np.arange(side)).reshape(-1)
    upper = np.stack([first, first + side + 1, first + 1], 1)
    lower = np.stack([first + 1, first + side + 1, first + side + 2], 1)
    rows = np.concatenate([upper, lower])
    uvs = np.zeros((len(points), 2), np.float32)
    camera = Flat((0.0, 0.0, 1.0), (0.0, 0.0, 0.0))
    both = [material(surface=Surface(two_sided=True))]
    mine = drawn(scene_of([Primitive(points, (uvs,), rows, 0, len(rows))], both), camera, SIZE)
    ids, _, _ = drawer.draw(points, uvs, rows, np.eye(4), SIZE, cull=False)
    np.testing.assert_array_equal(mine.ids, ids)
    # Each triangle alone covers what is its own in the whole: no pixel is hit twice, and none is missed.
    hits = np.zeros((SIZE[1], SIZE[0]), int)
    for triangle in range(0, len(rows), 7):
        alone = drawn(scene_of([Primitive(points, (uvs,), rows[triangle : triangle + 1], 0, 1)], both), camera, SIZE)
        np.testing.assert_array_equal(alone.ids >= 0, mine.ids == triangle)
        hits += alone.ids >= 0
    assert hits.max() == 1


def levels_of(seed=1, side=64):
    """Levels that are no means of each other, so that a wrong level shows."""
    random = np.random.default_rng(seed)
    found = []
    while side:
        found.append(
            np.repeat(np.repeat(random.integers(0, 256, (max(1, side // 4),) * 2 + (4,)), 4, 0), 4, 1)[:side, :side]
        )
        side //= 2
    return [level.astype(np.uint8) for level in found]


@pytest.mark.parametrize("distance", [1.2, 2.3, 3.7, 6.1, 11.0, 19.0])
def test_textures_are_filtered_as_the_driver_filters_them(drawer, distance):
    levels = levels_of()
    points = np.array([[[-1, -1, 0], [1, -1, 0], [1, 1, 0]], [[-1, -1, 0], [1, 1, 0], [-1, 1, 0]]], np.float32)
    uvs = np.array([[[0, 2], [2, 2], [2, 0]], [[0, 2], [2, 0], [0, 0]]], np.float32)
    camera = Camera((0.0, 0.0, distance), (0.0, 0.0, 0.0), far=40.0)
    chain = [level.astype(np.uint16) * 257 for level in levels]
    for level in chain:
        level[..., 3] = 65535
    scene = scene_of(
        [triangles(points, uvs)], [material("m", Surface(unlit=True), Slot.BASE_COLOUR)], {(0, Slot.BASE_COLOUR): chain}
    )
    mine = drawn(scene, camera, SIZE, anisotropy=1)
    matrix = camera.to_clip(SIZE[0] / SIZE[1])
    ids, _, read = drawer.draw(
        points.reshape(-1, 3), uvs.reshape(-1, 2), np.arange(6).reshape(-1, 3), matrix, SIZE, levels
    )
    seen = (ids >= 0) & (ids == mine.ids)
    assert seen.sum() > 200
    apart = np.abs(mine.colour[..., :3] - read[..., :3])[seen]
    # The driver's weights have eight bits, within a level and between two.
    assert np.median(apart) < 0.004 and apart.max() < 0.02


@pytest.mark.parametrize("lean", [0.0, 40.0, 70.0, 85.0])
@pytest.mark.parametrize("distance", [0.7, 2.0, 9.0])
def test_derivatives_are_those_of_the_plane_itself(lean, distance):
    lean = np.radians(lean)
    turn = np.array([[1, 0, 0], [0, np.cos(lean), -np.sin(lean)], [0, np.sin(lean), np.cos(lean)]])
    corners = np.array([[-1, -1, 0], [1, -1, 0], [1, 1, 0], [-1, 1, 0]]) * 4 @ turn.T
    uv = np.array([[0, 8], [8, 8], [8, 0], [0, 0]])
    rows = np.array([[0, 1, 2], [0, 2, 3]])
    camera = Camera((0.1, 0.2, distance), (0.0, 0.0, 0.0))
    both = [material(surface=Surface(two_sided=True))]
    scene = scene_of([Primitive(corners.astype(np.float32), (uv.astype(np.float32),), rows, 0, 2)], both)
    prints = finish(footprints(scene, camera, SIZE))
    inverse = np.linalg.inv(camera.to_clip(SIZE[0] / SIZE[1]))

    def uv_at(x, y):
        """UVs where the ray through a place of the picture meets the plane, in float64."""
        at = (
            np.stack([x / SIZE[0] * 2 - 1, 1 - y / SIZE[1] * 2, np.full_like(x, -0.5), np.ones_like(x)], -1) @ inverse.T
        )
        way = at[..., :3] / at[..., 3:] - camera.eye
        normal = turn[:, 2]
        point = np.array(camera.eye) + way * (-(np.array(camera.eye) @ normal) / (way @ normal))[..., None]
        along = point @ turn
        return np.stack([along[..., 0] + 4, 4 - along[..., 1]], -1)

    y, x = np.nonzero(prints.ids >= 0)
    assert len(x) > 500
    x, y, step = x + 0.5, y + 0.5, 1e-4
    true = np.stack([(uv_at(x + step, y) - uv_at(x - step, y)), (uv_at(x, y + step) - uv_at(x, y - step))], 1) / (
        2 * step
    )
    mine = prints.uvs[prints.ids >= 0][:, 0, 2:].reshape(-1, 2, 2)

    def level(derivatives):
        return np.log2(np.linalg.norm(derivatives, axis=2).max(axis=1))

    apart = np.abs(level(mine.astype(np.float64)) - level(true))
    assert apart.mean() < 0.001 and apart.max() < 0.02
