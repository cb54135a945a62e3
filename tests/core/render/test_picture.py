"""Pictures: light, clear parts, textures, cameras, and the same bytes however they are made."""

from dataclasses import replace

import numpy as np
import pytest

from oaktrim.core.errors import Unsupported
from oaktrim.core.pixels.image import Image
from oaktrim.core.progress import finish
from oaktrim.core.render.camera import Camera, framing
from oaktrim.core.render.drawable import chain_of, drawable
from oaktrim.core.render.drawlist import draw_list
from oaktrim.core.render.lighting import FURNACE, Lighting, Sun, lights_of
from oaktrim.core.render.picture import Settings, draw, draw_refining, sample_offsets
from oaktrim.core.scene.model import AlphaMode, Light, LightKind, Node, Surface
from oaktrim.core.scene.shapes import plane, sphere
from oaktrim.core.scene.slots import Slot
from tests.kit.scenes import UNLIT, card, drawn, material, model_of, scene_of, triangles

FRONT = Camera((0.0, 0.0, 3.0), (0.0, 0.0, 0.0))
BASE = (0, Slot.BASE_COLOUR)


def image(pixels):
    return Image.of(np.asarray(pixels, np.uint8))


def mean(scene, **settings):
    return drawn(scene, **settings).colour[24:40, 24:40].mean(axis=(0, 1))


@pytest.mark.parametrize("metallic", [0.0, 1.0])
@pytest.mark.parametrize("roughness", [0.0, 0.3, 0.7, 1.0])
def test_a_white_body_under_a_white_sky_is_as_bright_as_it(metallic, roughness):
    surface = Surface(metallic=metallic, roughness=roughness)
    picture = drawn(scene_of([sphere()], [material(surface=surface)]))
    body = picture.ids >= 0
    assert body.mean() > 0.1
    np.testing.assert_allclose(picture.colour[body], 1.0, atol=2e-3)


def test_lambert_under_a_sun_is_the_cosine_of_its_angle():
    surface = Surface(base_colour=(0.5, 0.25, 0.125, 1.0), metallic=0.0, roughness=1.0)
    for angle in (0.0, 30.0, 60.0, 80.0):
        way = (np.sin(np.radians(angle)), 0.0, np.cos(np.radians(angle)))
        dark = Lighting(suns=(Sun(way, (np.pi,) * 3),), sky=(0.0,) * 3, ground=(0.0,) * 3)
        found = mean(scene_of([card()], [material(surface=surface)]), lighting=dark)
        # What is not mirrored, at most 4 % at 0 degrees and more at a slant, is given back by Lambert; the lobe adds a little.
        expected = np.array([0.5, 0.25, 0.125]) * np.cos(np.radians(angle))
        np.testing.assert_allclose(found[:3], expected, rtol=0.1, atol=0.012)


def test_a_light_is_dimmer_with_the_square_of_its_distance():
    found = []
    for distance in (2.0, 4.0):
        light = Light(LightKind.POINT, intensity=10.0)
        place = np.eye(4)
        place[2, 3] = distance
        model = model_of([card(half=0.05)], [material(surface=Surface(metallic=0.0))])
        model = replace(model, roots=(0, 1), nodes=(*model.nodes, Node("lamp", None, (), place, light=light)))
        lighting = Lighting(suns=(), lights=lights_of(model), sky=(0.0,) * 3, ground=(0.0,) * 3)
        scene = drawable(draw_list(model), model.materials, lambda *_: None)
        found.append(drawn(scene, replace(FRONT, eye=(0.0, 0.0, 0.1)), lighting=lighting).colour[32, 32, 0])
    assert found[0] / found[1] == pytest.approx(4.0, rel=0.01)


def test_a_normal_map_turns_the_surface_and_mirrored_uvs_turn_it_as_the_standard_says():
    """glTF 2.0, clause 3.7.2.1: the bitangent is the cross product of normal and tangent times the sign."""
    lean = np.full((4, 4, 3), (218, 128, 218), np.uint8)
    chain = chain_of(image(lean), Slot.NORMAL)
    square = card()
    mirrored = replace(square, uvs=(square.uvs[0] * [-1, 1],))
    for primitive, sign in ((square, 1), (mirrored, -1)):
        narrow = replace(primitive, uvs=(primitive.uvs[0].astype(np.float32),))
        scene = scene_of([narrow], [material("m", Surface(), Slot.NORMAL)], {(0, Slot.NORMAL): chain})
        normal = drawn(scene).normals[32, 32]
        np.testing.assert_allclose(normal, [sign * 0.7071, 0, 0.7071], atol=0.01)


def test_masks_cut_and_what_is_clear_is_laid_over_in_any_order():
    half = np.zeros((8, 8, 4), np.uint8)
    half[:, :4] = (255, 0, 0, 255)
    textures = {(1, Slot.BASE_COLOUR): chain_of(image(half), Slot.BASE_COLOUR)}
    back = material("back", Surface(base_colour=(0, 0, 1, 1), unlit=True))
    for mode in (AlphaMode.MASK, AlphaMode.BLEND):
        front = material("front", Surface(alpha=mode, unlit=True), Slot.BASE_COLOUR)
        for order in ([card(0.0, 0), card(0.5, 1)], [card(0.5, 1), card(0.0, 0)]):
            picture = drawn(scene_of(order, [back, front], textures))
            np.testing.assert_allclose(picture.colour[32, 22], [1, 0, 0, 1], atol=0.01)
            np.testing.assert_allclose(picture.colour[32, 42], [0, 0, 1, 1], atol=0.01)
    # Layers of half, from near to far: 1/2 of the first, 1/4 of the second, 1/4 of what is behind.
    panes = [
        material(name, Surface(base_colour=(*colour, 0.5), alpha=AlphaMode.BLEND, unlit=True))
        for name, colour in (("red", (1, 0, 0)), ("green", (0, 1, 0)))
    ]
    picture = drawn(scene_of([card(0.0, 0), card(0.3, 2), card(0.6, 1)], [back, *panes]))
    np.testing.assert_allclose(picture.colour[32, 32], [0.5, 0.25, 0.25, 1], atol=0.01)


def test_backs_are_left_out_but_of_what_has_two_sides_and_mirrored_things_keep_their_front():
    behind = replace(FRONT, eye=(0.0, 0.0, -3.0))
    assert (drawn(scene_of([card()])).ids >= 0).any()
    assert (drawn(scene_of([card()]), behind).ids < 0).all()
    assert (drawn(scene_of([card()], [material(surface=Surface(two_sided=True))]), behind).ids >= 0).any()
    flipped = np.diag([-1.0, 1.0, 1.0, 1.0])
    assert (drawn(scene_of([card()], matrix=flipped)).ids >= 0).any()
    assert (drawn(scene_of([card()], matrix=flipped), behind).ids < 0).all()


def test_a_plane_at_a_known_distance_has_the_size_that_it_should():
    size = (200, 100)
    for distance in (2.0, 3.0, 8.0):
        camera = Camera((0.0, 0.0, distance), (0.0, 0.0, 0.0), yfov=np.radians(60))
        seen = drawn(scene_of([card(half=0.5)]), camera, size).ids >= 0
        expected = 100 / (2 * distance * np.tan(np.radians(30)))
        assert abs(seen.any(axis=0).sum() - expected) <= 1 and abs(seen.any(axis=1).sum() - expected) <= 1


def test_the_picture_does_not_depend_on_threads_and_samples_come_close_to_the_truth():
    random = np.random.default_rng(2)
    many = triangles(random.normal(0, 0.8, (400, 3, 3)))
    colours = random.random((1200, 4)).astype(np.float32)
    colours[:, 3] = 1
    scene = scene_of([replace(many, colours=colours)], [material(surface=replace(UNLIT, two_sided=True))])
    one, two = (drawn(scene, size=(150, 110), threads=threads, samples=4) for threads in (1, 5))
    for name in ("colour", "ids", "depth", "normals"):
        np.testing.assert_array_equal(getattr(one, name), getattr(two, name))
    large = drawn(scene, size=(150 * 8, 110 * 8), samples=16, buffers=()).colour
    truth = large.reshape(110, 8, 150, 8, 4).mean(axis=(1, 3))
    errors = [
        float(np.sqrt(np.mean((drawn(scene, size=(150, 110), samples=samples).colour - truth) ** 2)))
        for samples in (1, 4, 16)
    ]
    assert errors[0] > 1.7 * errors[1] and errors[1] > 1.7 * errors[2]


@pytest.mark.parametrize("count", [1, 2, 4, 8, 16])
def test_samples_stand_in_rows_and_columns_of_their_own(count):
    offsets = sample_offsets(count)
    for axis in (0, 1):
        assert sorted(offsets[:, axis] * count // 256) == list(range(count))


def test_a_missing_texture_is_hatched_and_one_that_is_there_is_not():
    paint = material("m", UNLIT, Slot.BASE_COLOUR)
    hatched = drawn(scene_of([card()], [paint])).colour[20:44, 20:44, :3]
    assert hatched.std(axis=(0, 1)).max() > 0.1
    grey = {BASE: chain_of(image(np.full((4, 4, 3), 128)), Slot.BASE_COLOUR)}
    plain = drawn(scene_of([card()], [paint], grey)).colour[20:44, 20:44, :3]
    np.testing.assert_allclose(plain, 0.2159, atol=0.002)


def test_a_quick_picture_comes_first_and_drawing_can_be_stopped():
    scene = scene_of([sphere()])
    task, found = draw_refining(scene, FRONT, (128, 128), Settings(lighting=FURNACE)), []
    try:
        while True:
            found.append(next(task).found)
    except StopIteration as end:
        whole = end.value
    quick = [picture for picture in found if picture is not None]
    assert [picture.colour.shape for picture in quick] == [(32, 32, 4)] and whole.colour.shape == (128, 128, 4)
    np.testing.assert_array_equal(
        whole.colour, finish(draw(scene, FRONT, (128, 128), Settings(lighting=FURNACE))).colour
    )
    stopped = draw(scene, FRONT, (512, 512))
    next(stopped)
    stopped.close()


def test_a_framed_box_is_seen_whole_and_fills_the_picture():
    scene = scene_of([sphere()])
    for towards in ((0.35, 0.3, 1.0), (0.0, 1.0, 0.0), (-1.0, -0.2, 0.1)):
        seen = drawn(scene, framing(*scene.draws.box(), towards), (120, 120)).ids >= 0
        edges = np.concatenate([seen[0], seen[-1], seen[:, 0], seen[:, -1]])
        assert not edges.any() and seen.any(axis=1).mean() > 0.5


def test_two_cameras_that_orbit_back_are_the_same():
    camera = framing(np.zeros(3), np.ones(3))
    back = camera.orbited(0.4, 0.2).orbited(-0.4, -0.2)
    np.testing.assert_allclose(back.eye, camera.eye, atol=1e-9)
    assert camera.orbited(0.7, -0.3).distance == pytest.approx(camera.distance)
    assert camera.turned(0.3, 0.1).eye == camera.eye
    assert camera.turned(0.3, 0.1).distance == pytest.approx(camera.distance)
    moved = np.subtract(camera.flown(1, 2, 3).eye, camera.eye)
    assert np.linalg.norm(moved) == pytest.approx(np.sqrt(14))


# What nobody should hand over, and somebody will


def hostile():
    good = [[-1, -1, 0], [1, -1, 0], [0, 1, 0]]
    return {
        "points": [[0, 0, 0]] * 3,
        "lines": [[-1, 0, 0], [0, 0, 0], [1, 0, 0]],
        "not a number": [[np.nan, 0, 0], *good[1:]],
        "endless": [[np.inf, 0, 0], *good[1:]],
        "huge": [[-3e38, -3e38, 0], [3e38, -3e38, 0], [0, 3e38, 0]],
        "tiny": (np.array(good) * 1e-30).tolist(),
        "through the eye": [[-1, -1, 3], [1, -1, 3], [0, 1, 3]],
        "from behind": [[-1, -1, 10], [1, -1, -10], [0, 1, -10]],
    }


@pytest.mark.parametrize("name", list(hostile()))
@pytest.mark.parametrize("camera", [FRONT, Camera((0.0, 0.0, 0.0), (0.0, 0.0, 0.0)), replace(FRONT, yfov=0.0)])
def test_broken_triangles_leave_the_picture_whole(name, camera):
    flat = np.array([[0.5, 0.5]] * 3, np.float32)
    broken = [
        replace(triangles([hostile()[name]], [uv]), normals=normals, tangents=tangents)
        for uv in (flat, np.full((3, 2), np.nan), np.array([[0, 0], [1e30, 0], [0, 1e30]]))
        for normals in (None, np.full((3, 3), np.nan, np.float32), np.zeros((3, 3), np.float32))
        for tangents in (None, np.full((3, 4), np.nan, np.float32))
    ]
    slots = (Slot.BASE_COLOUR, Slot.NORMAL, Slot.METALLIC_ROUGHNESS)
    grey = {(0, slot): chain_of(image(np.full((8, 8, 3), 128)), slot) for slot in slots}
    for mode in AlphaMode:
        surface = Surface(alpha=mode, two_sided=True)
        scene = scene_of([card(-1.0), *broken], [material("m", surface, *slots)], grey)
        for samples in (1, 4):
            picture = drawn(scene, camera, samples=samples)
            assert np.isfinite(picture.colour).all() and np.isfinite(picture.depth).all()
            assert np.isfinite(picture.normals).all()
            assert picture.codes().shape == (64, 64, 4)


def test_ten_million_copies_are_refused_with_their_number():
    model = model_of([card()], nodes=(Node("crowd", 0, (), copies=20_000_000),))
    with pytest.raises(Unsupported, match="40,000,000"):
        draw_list(model)


def test_nothing_to_draw_is_a_picture_of_the_background():
    empty = scene_of([])
    picture = drawn(empty, background=(0.1, 0.2, 0.3, 1.0))
    np.testing.assert_allclose(picture.colour, np.broadcast_to(np.float32([0.1, 0.2, 0.3, 1.0]), (64, 64, 4)))
    assert (picture.ids < 0).all()
    assert framing(*empty.draws.box()).distance > 0


def test_a_plane_repeats_as_often_as_it_says():
    assert plane(3.0).uvs[0].max() == 3.0
