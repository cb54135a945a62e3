"""Models of an inventory made ready to be drawn: each slot reads what it reads now, whatever file or maker that comes from."""

import numpy as np
import pytest

from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.makers.build import BuildSpec, survey_tree
from oaktrim.core.makers.patch.patch import Patch, Rect
from oaktrim.core.progress import finish
from oaktrim.core.render import shading, textures
from oaktrim.core.render.camera import Camera
from oaktrim.core.render.drawable import SLOTS
from oaktrim.core.render.lighting import FURNACE
from oaktrim.core.scene.slots import Slot
from oaktrim.core.survey.drawables import TextureCache, chain_bytes, load, ready
from oaktrim.core.survey.scan import ScanSettings
from tests.kit.models import SQUARE, add_mesh, material, scene
from tests.kit.scenes import drawn
from tests.kit.trees import put, surveyed, write_model

FRONT = Camera((0.5, 0.5, 2.0), (0.5, 0.5, 0.0), yfov=0.0, height=1.0)
RED, GREEN = (255, 0, 0), (0, 255, 0)


def flat(colour, side=64):
    return np.full((side, side, len(colour)), colour, np.uint8)


def gltf(root, *uris, name="wall.glb"):
    writer = GltfWriter()
    nodes = []
    for place, uri in enumerate(uris):
        paint = material(writer, f"paint{place}", baseColorTexture=writer.image(uri))
        writer.json["materials"][paint]["extensions"] = {"KHR_materials_unlit": {}}
        nodes.append(writer.add("nodes", mesh=add_mesh(writer, paint, points=SQUARE + np.float32([0, 0, -place]))))
    writer.json["extensionsUsed"] = ["KHR_materials_unlit"]
    scene(writer, *nodes)
    write_model(root, name, writer)


def seen(inventory, place=0, cache=None, size=(32, 32), **how):
    sources = inventory.sources(1 << 24)
    loaded = finish(load(inventory, place, sources))
    made, faults = finish(ready(inventory, loaded, sources, cache or TextureCache(), **how))
    return drawn(made, FRONT, size, lighting=FURNACE), faults, loaded


def test_a_model_wears_the_textures_of_the_inventory_or_what_stands_in_for_them(tmp_path):
    put(tmp_path, "red.png", flat(RED))
    gltf(tmp_path, "red.png")
    inventory = surveyed(tmp_path)
    picture, faults, loaded = seen(inventory)
    assert faults == ()
    np.testing.assert_allclose(picture.colour[16, 16], [1, 0, 0, 1], atol=1e-3)
    row = inventory.row_of["red.png"]
    assert loaded.reading(row).all()
    blue = [np.full((1, 1, 4), (0, 0, 65535, 65535), np.uint16)]
    picture, _, _ = seen(inventory, instead={row: lambda slot: blue})
    np.testing.assert_allclose(picture.colour[16, 16], [0, 0, 1, 1], atol=1e-3)


def test_what_cannot_be_read_is_named_and_hatched_and_the_rest_is_drawn(tmp_path):
    put(tmp_path, "red.png", flat(RED))
    put(tmp_path, "gone.png", flat(GREEN))
    gltf(tmp_path, "gone.png", "red.png")
    inventory = surveyed(tmp_path)
    (tmp_path / "gone.png").write_bytes(b"\x89PNG\r\n\x1a\n12")
    picture, faults, _ = seen(inventory)
    assert len(faults) == 1 and "gone.png" in faults[0]
    assert picture.colour[..., :3].std(axis=(0, 1)).max() > 0.1


def test_chains_are_read_once_cut_to_a_side_and_kept_within_a_limit(tmp_path):
    for name in ("red", "green"):
        put(tmp_path, f"{name}.png", flat(RED if name == "red" else GREEN, 256))
    gltf(tmp_path, "red.png", "green.png")
    inventory, cache = surveyed(tmp_path), TextureCache()
    seen(inventory, cache=cache)
    both = cache.bytes
    assert both == 2 * sum(4**n * 8 for n in range(9))
    seen(inventory, cache=cache)
    assert cache.bytes == both
    small = TextureCache(both // 2)
    sources = inventory.sources(1 << 24)
    loaded = finish(load(inventory, 0, sources))
    made, _ = finish(ready(inventory, loaded, sources, small))
    assert made.textures.bytes <= both // 2 and small.bytes <= both // 2
    made, _ = finish(ready(inventory, loaded, sources, cache, side=64))
    assert made.textures.bytes == 2 * sum(4**n * 8 for n in range(7))
    assert chain_bytes(cache.chain(("x",), lambda: [np.zeros((2, 2, 4), np.uint16)])) == 32


def test_a_patch_is_read_where_the_overlay_was(tmp_path):
    overlay = np.zeros((64, 64, 4), np.uint8)
    overlay[16:32, 32:48] = (255, 0, 0, 255)
    put(tmp_path, "mark.png", overlay)
    gltf(tmp_path, "mark.png")
    inventory = surveyed(tmp_path)
    before, _, _ = seen(inventory, size=(64, 64))
    patch = Patch(source="mark.png", name="mark_patch", rect=Rect(32, 16, 16, 16))
    patched = finish(survey_tree(tmp_path, ScanSettings(), BuildSpec(makers=(patch,)))).inventory
    after, _, loaded = seen(patched, size=(64, 64))
    assert patched.textures[loaded.rows[0, Slot.BASE_COLOUR]].path.endswith("mark_patch")
    np.testing.assert_allclose(after.colour[18:30, 34:46], before.colour[18:30, 34:46], atol=2e-3)
    assert before.colour[24, 40, 0] > 0.99


@pytest.mark.parametrize("roughness", [0, 255])
def test_an_obj_is_drawn_with_its_maps_apart_and_its_cover(tmp_path, roughness):
    put(tmp_path, "red.png", flat(RED))
    put(tmp_path, "rough.png", flat((roughness,) * 3))
    cover = flat((255,) * 3)
    cover[:, 32:] = 0
    put(tmp_path, "cover.png", cover)
    (tmp_path / "a.mtl").write_text("newmtl m\nmap_Kd red.png\nmap_Pr rough.png\nmap_d cover.png\nPm 0\n")
    (tmp_path / "a.obj").write_text(
        "mtllib a.mtl\nv 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nusemtl m\n"
        "f 1/1 2/2 3/3 4/4\n"
    )
    picture, faults, loaded = seen(surveyed(tmp_path))
    assert faults == ()
    assert picture.colour[16, 8, 3] == pytest.approx(1, abs=0.01) and picture.colour[16, 24, 3] == pytest.approx(
        0, abs=0.01
    )
    inventory = surveyed(tmp_path)
    made, _ = finish(ready(inventory, loaded, inventory.sources(1 << 24), TextureCache()))
    texture = made.choices[0, shading.TEXTURE + 2 * SLOTS.index(Slot.METALLIC_ROUGHNESS)]
    first = made.textures.rows[texture, textures.FIRST]
    assert made.textures.texels[first].tolist()[:3] == [65535, roughness * 257, 0]
