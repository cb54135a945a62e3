"""The software renderer: what is nearer hides what is farther, textures lie where their UVs say, light falls as it should."""

import numpy as np
from tests.kit.pictures import flat

from oaktrim.core.pixels.image import Image
from oaktrim.core.raster.lit import Body, lit_picture
from oaktrim.core.raster.mesh import see
from oaktrim.core.raster.model import Skin, model_picture
from oaktrim.core.scene.model import Material, Mesh, Model, Node, Primitive


def test_the_nearer_triangle_is_seen_and_corners_are_weighed_by_perspective():
    # A wall that goes away to the right: 1 / distance falls from 1 to a quarter, linearly on the picture.
    spots = np.array(
        [[0, 0, 1], [64, 0, 0.25], [64, 64, 0.25], [0, 64, 1], [16, 16, 2], [48, 16, 2], [32, 60, 2]], np.float32
    )
    wall, plate = np.array([[0, 1, 2], [0, 2, 3]]), np.array([[4, 5, 6]])
    alone = see(spots, wall, (64, 64))
    assert (alone.owner >= 0).all()
    across = np.array([[0, 0], [1, 0], [1, 1], [0, 1], [0, 0], [0, 0], [0, 0]], np.float32)
    u = alone.blended(across, wall)[..., 0]
    x = (np.arange(64) + 0.5) / 64
    # Hyperbolic interpolation: u = (x / far) / ((1 - x) / near + x / far), near 1 and far 4.
    np.testing.assert_allclose(u[32], (x * 0.25) / (1 - x + x * 0.25), atol=1e-4)
    for order in (np.concatenate([wall, plate]), np.concatenate([plate, wall])):
        both = see(spots, order, (64, 64))
        plate_row = 2 if order[0, 0] == 0 else 0
        assert both.owner[20, 32] == plate_row and both.owner[4, 32] != plate_row
    behind = see(spots, plate, (64, 64), np.full((64, 64), 3, np.float32))
    assert (behind.owner < 0).all()


def card(z=0.0, material=0, half=1.0):
    points = np.array([[-half, -half, z], [half, -half, z], [half, half, z], [-half, half, z]], np.float32)
    uv = np.array([[0, 1], [1, 1], [1, 0], [0, 0]], np.float32)
    return Primitive(points, (uv,), np.array([[0, 1, 2], [0, 2, 3]]), material, 2)


def model_of(*primitives, count=2):
    materials = tuple(Material(f"m{n}", (), "") for n in range(count))
    nodes = (Node("n", 0, ()),)
    return Model("gltf", "s", (0,), nodes, (Mesh("m", primitives, 0),), materials, ())


def quarters():
    """Red, green, blue and white quarters, from the top left."""
    pixels = np.zeros((32, 32, 3), np.uint8)
    pixels[:16, :16, 0] = pixels[:16, 16:, 1] = pixels[16:, :16, 2] = 255
    pixels[16:, 16:] = 255
    return Image.of(pixels)


def brightest(picture, x, y):
    return int(np.argmax(picture[y, x, :3]))


def test_a_texture_lies_as_its_uvs_say_and_a_part_of_it_in_the_same_place():
    model = model_of(card())
    whole = model_picture(model, {0: Skin(quarters())}, 0, 96)
    assert [brightest(whole, x, y) for x, y in ((40, 40), (56, 40), (40, 56))] == [0, 1, 2]
    # The same card with only the lower half of the texture, moved to where it was: nothing changes there.
    half = quarters().pixels[16:]
    moved = model_picture(model, {0: Skin(Image.of(half.copy()), (1.0, 2.0), (0.0, -1.0), clamped=True)}, 0, 96)
    # Away from the border, where the whole one repeats and the part goes on.
    np.testing.assert_array_equal(moved[54:62, 26:70], whole[54:62, 26:70])
    assert (moved[40] != whole[40]).any()


def test_what_is_clear_shows_what_lies_behind():
    model = model_of(card(0.0, 0, 2.0), card(0.001, 1))
    clear = np.zeros((8, 8, 4), np.uint8)
    clear[:, 4:] = (0, 0, 255, 255)
    skins = {0: Skin(flat((200, 40, 30), 8, 8)), 1: Skin(Image.of(clear))}
    seen = model_picture(model, skins, 1, 64, frozenset({1}))
    assert brightest(seen, 22, 32) == 0 and brightest(seen, 42, 32) == 2
    assert not model_picture(model, skins, 5, 64).any(), "no triangle wears it"


def test_light_falls_as_roughness_metalness_and_occlusion_say():
    def lit(**maps):
        planes = {name: np.full((8, 8), value, np.float32) for name, value in maps.items()}
        return lit_picture(Body.SPHERE, planes, 128).astype(int)

    plain = lit(occlusion=1.0, roughness=0.9, metalness=0.0)
    assert plain[64, 64, 3] == 255 and plain[0, 0, 3] == 0
    smooth = lit(occlusion=1.0, roughness=0.15, metalness=0.0)
    assert smooth[..., :3].max() > plain[..., :3].max() + 20, "a smooth surface has a highlight"
    hot = smooth[..., 0] > plain[..., 0] + 20
    rows, columns = np.nonzero(hot)
    assert rows.mean() < 64 and columns.mean() < 64, "towards the lamp, which stands up on the left"
    dim = lit(occlusion=0.0, roughness=0.9, metalness=0.0)
    shadow = plain[:, 96:, :3].sum() > dim[:, 96:, :3].sum()
    assert shadow and (dim[..., :3] <= plain[..., :3]).all()
    metal = lit(occlusion=1.0, roughness=0.9, metalness=1.0)
    assert metal[64, 64, :3].sum() < plain[64, 64, :3].sum(), "metal has no diffuse light"
    table = lit_picture(Body.PLANE, {}, 64)
    assert 0.3 < (table[..., 3] > 0).mean() < 0.95
