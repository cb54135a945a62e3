"""Near-same textures: found at any size and mirrored, and served by one in the models that wear them."""

import numpy as np
import pytest

from oaktrim.core.files.gltf import parse_gltf
from oaktrim.core.files.pictures import write_png
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.job.begin import with_begun
from oaktrim.core.job.document import new_job
from oaktrim.core.makers.build import survey_tree
from oaktrim.core.makers.share.kind import Share, Sharer
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.resample import resample
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.progress import finish
from oaktrim.core.proof.sharing import sharings
from oaktrim.core.ship.run import ship
from oaktrim.core.survey.cache import SurveyCache
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
    made = Coat()
    for number, name in enumerate("abcd"):
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
    assert first in ("a_base.png", "c_base.png")
    others = {row.path: (row.across, row.down) for row in group.share.others}
    mirrored = {"a_base.png": "c_base.png", "c_base.png": "a_base.png"}[first]
    assert others[mirrored] == (True, False) and set(others) == {mirrored, "b_base.png"}
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
    assert moved[mirrored[0]]["scale"] == [-1.0, 1.0] and moved[mirrored[0]]["offset"] == [1.0, 0.0]
    assert not moved[first[0]] and moved["d"] is None


def test_a_share_is_of_several():
    with pytest.raises(ValueError, match="two or more"):
        Share("s", "a", ())
    with pytest.raises(ValueError, match="once"):
        Share("s", "a", (Sharer("a"),))
