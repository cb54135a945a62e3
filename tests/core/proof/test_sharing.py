"""Near-same textures: found at any size and mirrored, and served by one in the models that wear them."""

import numpy as np
import pytest

from oaktrim.core.files.gltf import parse_gltf
from oaktrim.core.files.pictures import read_picture, write_png
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.files.uvtransform import UvTransform
from oaktrim.core.job.begin import with_begun
from oaktrim.core.job.document import new_job
from oaktrim.core.makers.build import survey_tree
from oaktrim.core.makers.share.kind import Share, Sharer
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.resample import Filter, Resampling, resample
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.progress import finish
from oaktrim.core.proof.sharing import sharings, swap
from oaktrim.core.scene.read import parse_model
from oaktrim.core.ship.run import ship
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.drawables import TextureCache
from oaktrim.core.targets.target import target_named
from tests.core.makers.test_surface import paint, picture
from tests.kit.atlases import UV, Coat
from tests.kit.models import SQUARE, SQUARE_TRIANGLES


@pytest.fixture
def deck(tmp_path):
    """Squares that wear a picture, the same at half its size, and the same mirrored; and one of another."""
    root = tmp_path / "deck"
    root.mkdir()
    image = picture(np.clip(paint(3, "spots") * np.linspace(0.4, 1.6, 256)[None, :, None], 0, 1))
    write_png(root / "a_base.png", image)
    write_png(root / "b_base.png", resample(image, 128, 128))
    write_png(root / "c_base.png", Image.of(np.ascontiguousarray(image.pixels[:, ::-1])))
    write_png(root / "d_base.png", picture(paint(9, "bricks")))
    write_png(root / "e_base.png", Image.of(np.ascontiguousarray(np.rot90(image.pixels))))
    made = Coat()
    for number, name in enumerate("abcde"):
        coat = made.paint(name, baseColorTexture=made.writer.image(f"{name}_base.png"))
        made.add(coat, SQUARE + np.float32([2 * number, 0, 0]), UV, SQUARE_TRIANGLES)
    made.save(root / "deck.glb")
    return root


def test_they_are_found_and_one_serves_all(deck, tmp_path):
    cache = SurveyCache(tmp_path / "cache")
    job = new_job(deck)
    found = finish(survey_tree(deck, job.scan_settings, job.build_spec, cache)).inventory
    plans = [resolve(found, target_named(name)) for name in ("pocket", "lounge")]
    (group,) = sharings(plans, cache.thumbnail)
    first = group.share.source
    assert first == "a_base.png"
    others = {row.path: row.words for row in group.share.others}
    assert others == {"b_base.png": "", "c_base.png": "mirrored", "e_base.png": "turned by a quarter"}
    for row in group.share.others:
        shown = finish(swap(found, group.share, row, TextureCache(), 1 << 24))
        assert shown.path == row.path and shown.jnd < 0.4, row
    # It is the way that it is turned that makes them alike.
    wrong = Sharer("e_base.png", True, True, True)
    assert finish(swap(found, group.share, wrong, TextureCache(), 1 << 24)).jnd > 2
    gone = [found.row_of[path] for path in others]
    assert group.saved[0] == int(plans[0].line("memory")[gone].sum()) and group.apart < 0.02
    maker = job.named(group.share)
    job = with_begun(job, maker, plans)
    inventory = finish(survey_tree(deck, job.scan_settings, job.build_spec, cache)).inventory
    assert {t.path for t in inventory.textures} == {maker.name, "d_base.png"}
    finish(ship(resolve(inventory, target_named("pocket")), tmp_path / "out"))
    document = parse_gltf((tmp_path / "out" / "deck.glb").read_bytes(), ReferenceFolder(tmp_path / "out", "deck.glb"))
    moved = {
        row["name"]: row["pbrMetallicRoughness"]["baseColorTexture"].get("extensions", {}).get("KHR_texture_transform")
        for row in document.raw["materials"]
    }
    assert len(list((tmp_path / "out").rglob("*.ktx2"))) == 2
    assert moved["c"]["scale"] == [-1.0, 1.0] and moved["c"]["offset"] == [1.0, 0.0]
    assert not moved["a"] and moved["d"] is None and moved["e"]["rotation"] == pytest.approx(np.pi / 2)
    # What ships is looked at again: every square shows what it did.
    shipped = ReferenceFolder(tmp_path / "out", "deck.glb")
    model = parse_model((tmp_path / "out" / "deck.glb").read_bytes(), shipped, True)
    y, x = (np.mgrid[0:64, 0:64] + 0.5) / 64
    uv = np.stack([x, y], axis=-1)

    def small(path):
        return resample(read_picture(deck / path), 64, 64, Resampling(Filter.BOX)).pixels.astype(int)

    kept = small(first)
    for material in model.materials:
        if material.name != "d":
            (use,) = material.uses
            c, s = np.cos(use.rotation), np.sin(use.rotation)
            there = (uv * use.scale) @ np.array([[c, -s], [s, c]]) + use.offset
            seen = kept[tuple((there[..., ::-1] % 1 * 64).astype(int).transpose(2, 0, 1))]
            assert np.abs(seen - small(f"{material.name}_base.png")).mean() < 2, material.name


@pytest.mark.parametrize("swapped", [False, True])
@pytest.mark.parametrize(("across", "down"), [(False, False), (True, False), (False, True), (True, True)])
def test_a_turn_comes_after_what_a_material_does(across, down, swapped):
    where = Sharer("b", across, down, swapped).where()
    there = {"scale": [2.0, 3.0], "rotation": 0.7, "offset": [0.1, 0.4]}

    def matrix(row):
        c, s = np.cos(row["rotation"]), np.sin(row["rotation"])
        turn = np.array([[c, s, 0], [-s, c, 0], [0, 0, 1]]) @ np.diag([*row["scale"], 1])
        turn[:2, 2] = row["offset"]
        return turn

    assert np.allclose(matrix(where.after(there)), where.matrix() @ matrix(there))
    # In the middle of a texel what is read is what a turned picture holds there.
    picture = np.arange(12).reshape(3, 4, 1)
    shown = Sharer("b", across, down, swapped).shown(picture)
    height, width = shown.shape[:2]
    for row, column in np.ndindex(height, width):
        u, v, _ = where.matrix() @ [(column + 0.5) / width, (row + 0.5) / height, 1]
        assert picture[int(v % 1 * 3), int(u % 1 * 4)] == shown[row, column]


def test_a_patch_of_what_is_turned_cannot_be_said():
    assert UvTransform((2.0, 3.0)).after({"rotation": 0.5}) is None


def test_a_share_is_of_several():
    with pytest.raises(ValueError, match="two or more"):
        Share("s", "a", ())
    with pytest.raises(ValueError, match="once"):
        Share("s", "a", (Sharer("a"),))
