"""Imposters: what cards show, planes of a cloud, outlines, and how far they are from the thing."""

import numpy as np
import pytest
from tests.kit import validator
from tests.kit.atlases import UV, Coat
from tests.kit.models import SQUARE, SQUARE_TRIANGLES
from tests.kit.pictures import busy, smooth

from oaktrim.core.errors import FileError, Unsupported
from oaktrim.core.files.atomic import read_bytes
from oaktrim.core.files.pictures import png_of, write_png
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.makers.imposter.cloud import chosen
from oaktrim.core.makers.imposter.made import imposter_glb, imposter_json, imposter_of
from oaktrim.core.makers.imposter.outline import outline
from oaktrim.core.makers.imposter.settings import Family, Imposter, Pivot, SheetMap
from oaktrim.core.makers.imposter.subject import subject_of
from oaktrim.core.pixels.image import Image
from oaktrim.core.progress import finish
from oaktrim.core.proof.imposterlikeness import likeness
from oaktrim.core.scene.read import parse_model
from oaktrim.core.survey.derived import Sources
from oaktrim.core.survey.places import source_bytes


def opened(root, name, nodes=(), pivot=Pivot.ORIGIN):
    place = ReferenceFolder(root, name)
    model = parse_model(read_bytes(root / name), place, whole=True)
    sources = Sources(root, {}, 1 << 24)
    return subject_of(model, lambda n: sources.picture(place.target_of(model.images[n].uri)), nodes, pivot, name)


def make(root, name, nodes=(), pivot=Pivot.ORIGIN, **settings):
    subject = opened(root, name, nodes, pivot)
    return finish(imposter_of(subject, Imposter("far", name, nodes=tuple(nodes), pivot=pivot, **settings)))


def model_of(made, root):
    data = imposter_glb(made, lambda kind: {"data": png_of(made.sheet.maps[kind], root), "uri": kind.value}, "far")
    return data, parse_model(data, ReferenceFolder(root, "far.glb"), whole=True)


def sign(root, **extra):
    """A picture on an upright square, 2 by 1 metres, that stands a metre above the ground."""
    made = Coat()
    picture = made.picture(root, "sign.png", busy(128, 64, 3, seed=2))
    paint = made.paint("sign", extra=extra, baseColorTexture=picture)
    made.add(paint, (SQUARE * [2, 1, 1] + [-1, 1, 0]).astype(np.float32), UV, SQUARE_TRIANGLES)
    return made.save(root / "sign.glb")


def box(root, sides=((0, 1), (0, 1), (0, 1)), name="box.glb"):
    """Six faces with a picture each; normals face outwards."""
    made = Coat()
    for axis in range(3):
        for end in range(2):
            low = np.array([s[0] for s in sides], np.float32)
            size = np.array([s[1] - s[0] for s in sides], np.float32)
            u, v = (axis + 1) % 3, (axis + 2) % 3
            corner = np.zeros((4, 3), np.float32) + low
            corner[:, axis] += size[axis] * end
            corner[[1, 2], u] += size[u]
            corner[[2, 3], v] += size[v]
            number = axis * 2 + end
            picture = made.picture(root, f"face{number}.png", smooth(64, 64, 3, seed=number))
            order = SQUARE_TRIANGLES if end else SQUARE_TRIANGLES.reshape(-1, 3)[:, ::-1]
            row = made.add(made.paint(f"f{number}", baseColorTexture=picture), corner, UV, order)
            out = np.zeros((4, 3), np.float32)
            out[:, axis] = 1 if end else -1
            row["attributes"]["NORMAL"] = made.writer.accessor(out, indices=False)
    return made.save(root / name)


def test_a_card_shows_the_picture_itself(tmp_path):
    sign(tmp_path)
    made = make(tmp_path, "sign.glb", axes="z", size=128, gutter=0)
    (row,) = made.sheet.cards
    assert (row.width, row.height) == (128, 64) and np.allclose(row.card.corner, [-1, 1, 0])
    base = made.sheet.maps[SheetMap.BASE].pixels[row.y : row.y + 64, row.x : row.x + 128]
    source = busy(128, 64, 3, seed=2).pixels
    assert (base[1:-1, 1:-1, 3] == 255).all()
    # One texel for one, supersampled: away from edges of the picture nothing but rounding is left.
    apart = np.abs(base[..., :3].astype(int) - source)
    assert np.median(apart) <= 2 and np.percentile(apart, 90) < 12
    normal = made.sheet.maps[SheetMap.NORMAL].pixels[row.y + 30, row.x + 30]
    assert np.abs(normal.astype(int) - [128, 128, 255]).max() <= 1
    data, model = model_of(made, tmp_path)
    assert made.triangles == 2 and len(model.meshes[0].primitives[0].triangles) == 2
    found = finish(likeness(made, model, (64,)))
    assert found.rows[0].overlap > 0.97 and found.rows[0].psnr > 25
    if validator.is_there():
        (tmp_path / "far.glb").write_bytes(data)
        assert validator.errors(tmp_path / "far.glb") == []


def test_a_box_as_a_cloud_of_six_is_the_box(tmp_path):
    box(tmp_path)
    made = make(tmp_path, "box.glb", family=Family.CLOUD, cards=6, size=256, maps=tuple(SheetMap))
    assert len(made.sheet.cards) == 6 and made.cloud.error < 0.01
    assert set(made.cloud.owner.tolist()) == set(range(6))
    for row in made.sheet.cards:
        # Each faces outwards and is seen from there alone.
        assert row.card.normal @ (row.card.middle - 0.5) > 0.4 and not row.card.both
    _, model = model_of(made, tmp_path)
    found = finish(likeness(made, model, (64, 32)))
    for row in found.rows:
        assert row.overlap > 0.95 and row.psnr > 30
    assert found.switch == 64
    written = imposter_json(made, found.as_json())
    assert b'"schema": "oak-trim.imposter/1"' in written and b'"advised_switch_pixels": 64' in written


def test_planes_hold_what_they_should_and_upright_ones_are_preferred():
    rng = np.random.default_rng(2)
    flat = rng.uniform(0, 1, (300, 3, 3))
    for number, axis in enumerate((0, 2, 1)):
        flat[number * 100 : number * 100 + 100, :, axis] = 0.3 + 0.2 * number
    found = finish(chosen(flat, 3, 0.0))
    assert len(found.normals) == 3 and found.error < 0.02 and found.reached.max() < 0.02
    assert sorted(np.abs(found.normals).argmax(axis=1)) == [0, 1, 2]
    few = finish(chosen(flat, 1, 1.0))
    assert abs(few.normals[0, 1]) < 0.9 and few.reached.max() > 0.1


@pytest.mark.parametrize("corners", [3, 4, 6, 8, 12])
def test_outlines_hold_every_covered_texel(corners):
    rng = np.random.default_rng(corners)
    y, x = np.mgrid[0:60, 0:80]
    for _ in range(20):
        covered = np.zeros((60, 80), bool)
        for _ in range(5):
            a, b, r = rng.uniform(0, 80), rng.uniform(0, 60), rng.uniform(1, 14)
            covered |= (x - a) ** 2 + (y - b) ** 2 < r * r
        if not covered.any():
            continue
        shape = outline(covered, corners)
        assert (
            3 <= len(shape) <= max(4, corners)
            and shape.min() >= 0
            and shape[:, 0].max() <= 80
            and shape[:, 1].max() <= 60
        )
        rows, columns = np.nonzero(covered)
        ends = np.concatenate([np.stack([columns + dx, rows + dy], axis=1) for dx in (0, 1) for dy in (0, 1)])
        after = np.roll(shape, -1, axis=0)
        sides = [
            (b[0] - a[0]) * (ends[:, 1] - a[1]) - (b[1] - a[1]) * (ends[:, 0] - a[0])
            for a, b in zip(shape, after, strict=True)
        ]
        turned = np.array(sides) * np.sign(sum(a[0] * b[1] - b[0] * a[1] for a, b in zip(shape, after, strict=True)))
        assert turned.min() > -1e-6
    many = outline(covered, 12)
    area = [abs((s[:, 0] * np.roll(s[:, 1], -1) - s[:, 1] * np.roll(s[:, 0], -1)).sum()) / 2 for s in (shape, many)]
    assert area[1] <= area[0] + 1e-6
    assert outline(np.zeros((4, 6), bool), corners).tolist() == [[0, 0], [6, 0], [6, 4], [0, 4]]


def test_backs_are_baked_apart_and_pivots_moved(tmp_path):
    box(tmp_path, ((2, 4), (1, 2), (5, 6)))
    made = make(tmp_path, "box.glb", axes="z", sides=2, size=128, pivot=Pivot.GROUND)
    front, back = made.sheet.cards
    assert back.card.back and np.allclose(front.card.normal, -back.card.normal)
    pixels = made.sheet.maps[SheetMap.BASE].pixels[..., :3]
    pieces = [pixels[r.y + 4 : r.y + r.height - 4, r.x + 4 : r.x + r.width - 4].astype(int) for r in (front, back)]
    assert np.abs(pieces[0][:20, :20] - pieces[1][:20, :20]).mean() > 8
    assert made.subject.pivot.tolist() == [3, 1, 5.5] and made.subject.low.tolist() == [-1, 0, -0.5]
    _, model = model_of(made, tmp_path)
    points = model.meshes[0].primitives[0].positions
    assert points[:, 1].min() == pytest.approx(0, abs=1e-5) and np.abs(points[:, 2]).max() < 1e-5


def test_cut_outs_stay_cut_out_and_glow_is_told(tmp_path):
    made_of = Coat()
    leaf = np.zeros((64, 64, 4), np.uint8)
    leaf[..., :3] = (40, 160, 60)
    leaf[16:48, 16:48, 3] = 255
    picture = made_of.picture(tmp_path, "leaf.png", Image.of(leaf))
    glow = {"alphaMode": "MASK", "emissiveFactor": [1, 0.5, 0]}
    made_of.square(made_of.paint("leaf", extra=glow, baseColorTexture=picture))
    made_of.save(tmp_path / "leaf.glb")
    made = make(tmp_path, "leaf.glb", axes="z", size=64, gutter=0, outline=4)
    alpha = made.sheet.maps[SheetMap.BASE].pixels[..., 3]
    assert 0.21 < (alpha > 127).mean() < 0.28 and made.clear_share < 0.1
    # Colour under clear texels is filled, so that smaller levels show no dark rim.
    assert np.abs(made.sheet.maps[SheetMap.BASE].pixels[0, 0, :3].astype(int) - [40, 160, 60]).max() <= 2
    assert any("glows" in line for line in made.warnings)
    lit = make(tmp_path, "leaf.glb", axes="z", size=64, maps=(SheetMap.BASE, SheetMap.EMISSIVE))
    assert not any("glows" in line for line in lit.warnings)
    assert lit.sheet.maps[SheetMap.EMISSIVE].pixels[32, 32].tolist() == [255, 188, 0]


def test_what_cannot_be_baked_is_said(tmp_path):
    sign(tmp_path)
    with pytest.raises(Unsupported, match="cards that face along x all see it edge-on"):
        make(tmp_path, "sign.glb", axes="x")
    with pytest.raises(FileError, match="no node called 'door'"):
        make(tmp_path, "sign.glb", nodes=("door",))
    made = Coat()
    empty = made.writer.add("nodes", name="nothing")
    made.square(made.paint("clear", {"baseColorFactor": [1, 1, 1, 0]}, {"alphaMode": "BLEND"}))
    path = made.save(tmp_path / "clear.glb")
    with pytest.raises(Unsupported, match="fully clear"):
        make(tmp_path, "clear.glb")
    assert empty == 0 and path.exists()
    with pytest.raises(Unsupported, match="nothing is drawn there"):
        make(tmp_path, "clear.glb", nodes=("nothing",))
    for words, wrong in (
        ("are no axes", {"axes": "xx"}),
        ("at least 3 corners", {"outline": 2}),
        ("is no model", {"model": "x.png"}),
    ):
        with pytest.raises(ValueError, match=words):
            Imposter("a", wrong.pop("model", "a.glb"), **wrong)


@pytest.mark.parametrize("scale", [1e-6, 1e6])
def test_any_scale_will_do(tmp_path, scale):
    made_of = Coat()
    picture = made_of.picture(tmp_path, "a.png", busy(32, 32, 3))
    made_of.add(made_of.paint("a", baseColorTexture=picture), (SQUARE * scale).astype(np.float32), UV, SQUARE_TRIANGLES)
    made_of.save(tmp_path / "scaled.glb")
    for family in Family:
        made = make(tmp_path, "scaled.glb", family=family, axes="z", cards=2, size=64)
        assert (made.sheet.maps[SheetMap.BASE].pixels[..., 3] == 255).mean() > 0.5


def test_a_picture_that_is_gone_is_hatched_and_nothing_breaks(tmp_path):
    sign(tmp_path)
    (tmp_path / "sign.png").unlink()
    made = make(tmp_path, "sign.glb", axes="z", size=64)
    assert (made.sheet.maps[SheetMap.BASE].pixels[..., 3] == 255).mean() > 0.5
    assert "sign.png" in made.warnings[0]
    with pytest.raises(FileError):
        source_bytes(tmp_path, "sign.png")
    write_png(tmp_path / "sign.png", busy(128, 64, 3, seed=2))
