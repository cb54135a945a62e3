"""Imposters: what cards show, planes of a cloud, outlines, and how far they are from the thing."""

import moderngl
import numpy as np
import pytest
from tests.kit import validator
from tests.kit.atlases import UV, Coat
from tests.kit.models import SQUARE, SQUARE_TRIANGLES
from tests.kit.pictures import busy, smooth

from oaktrim.core.errors import FileError, Unsupported
from oaktrim.core.files.atomic import read_bytes
from oaktrim.core.files.gltf import parse_gltf
from oaktrim.core.files.pictures import png_of, write_png
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.job.begin import with_begun
from oaktrim.core.job.document import new_job
from oaktrim.core.makers.build import BuildSpec, survey_tree
from oaktrim.core.makers.imposter.chain import chain_plan, chained
from oaktrim.core.makers.imposter.cloud import chosen
from oaktrim.core.makers.imposter.made import imposter_glb, imposter_json, imposter_of
from oaktrim.core.makers.imposter.outline import outline
from oaktrim.core.makers.imposter.settings import (
    Chain,
    ChainForm,
    Family,
    HandOutline,
    Imposter,
    Moment,
    Pivot,
    SheetMap,
)
from oaktrim.core.makers.imposter.subject import subject_of
from oaktrim.core.makers.imposter.things import Thing, advised, things_of
from oaktrim.core.makers.registry import MakerContext, kind_of
from oaktrim.core.makers.sourcemodel import model_at
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.levels import build_mip_chain, preserve_alpha_coverage
from oaktrim.core.plan.cuts import Cut, KeepCoverage, SetFormat
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.progress import finish
from oaktrim.core.proof.imposterlikeness import likeness, stand_in
from oaktrim.core.render.camera import Camera, framing
from oaktrim.core.render.drawlist import draw_list
from oaktrim.core.render.overdraw import overdraw
from oaktrim.core.render.picture import Settings, draw
from oaktrim.core.scene.read import parse_model
from oaktrim.core.ship.run import ship
from oaktrim.core.sight.views import scene_of
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.derived import Sources
from oaktrim.core.survey.places import source_bytes
from oaktrim.core.survey.roles import Role
from oaktrim.core.survey.scan import ScanSettings
from oaktrim.core.targets.target import target_named


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
    found = finish(likeness(made.subject, stand_in(made, model), (64,)))
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
    found = finish(likeness(made.subject, stand_in(made, model), (64, 32)))
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
        made = make(tmp_path, "scaled.glb", family=family, axes="z", cards=2, size=64, frames=3, frame_size=32)
        # From the side, and in the corners of frames, there is nothing of a square.
        least = 0.03 if family.of_frames else 0.5
        assert (made.sheet.maps[SheetMap.BASE].pixels[..., 3] == 255).mean() > least


def test_a_picture_that_is_gone_is_hatched_and_nothing_breaks(tmp_path):
    sign(tmp_path)
    (tmp_path / "sign.png").unlink()
    made = make(tmp_path, "sign.glb", axes="z", size=64)
    assert (made.sheet.maps[SheetMap.BASE].pixels[..., 3] == 255).mean() > 0.5
    assert "sign.png" in made.warnings[0]
    with pytest.raises(FileError):
        source_bytes(tmp_path, "sign.png")
    write_png(tmp_path / "sign.png", busy(128, 64, 3, seed=2))


def yard(root):
    """A box and a post that hang on one node, the box with a level of its own, and a camera beside them."""
    made = Coat()
    paint = made.paint("stone", baseColorTexture=made.picture(root, "stone.png", smooth(32, 32, 3)))
    writer = made.writer
    meshes = []
    for size in ((1, 1, 1), (1, 1, 0), (0.2, 3, 0)):
        made.primitives = []
        made.add(paint, (SQUARE * size).astype(np.float32), UV, SQUARE_TRIANGLES)
        meshes.append(writer.add("meshes", primitives=made.primitives))
    low = writer.add("nodes", name="box low", mesh=meshes[1])
    box = writer.add(
        "nodes", name="box", mesh=meshes[0], translation=[2.0, 0.0, 0.0], extensions={"MSFT_lod": {"ids": [low]}},
        extras={"MSFT_screencoverage": [0.5, 0.05]},
    )  # fmt: skip
    post = writer.add("nodes", name="post", mesh=meshes[2])
    group = writer.add("nodes", name="group", children=[box, post], translation=[0.0, 5.0, 0.0], scale=[2.0, 2.0, 2.0])
    lens = writer.add("cameras", type="perspective", perspective={"yfov": 0.8, "znear": 0.1})
    seen = writer.add("nodes", name="eye", camera=lens)
    writer.json |= {"scenes": [{"nodes": [group, seen]}], "scene": 0, "extensionsUsed": ["MSFT_lod"]}
    (root / "yard.glb").write_bytes(writer.glb())
    return "yard.glb"


def linked(root, nodes, chain):
    """The model with an imposter of some nodes among its levels, as read again, and the plan."""
    source = model_at(root, "yard.glb")
    settings = Imposter("far", "yard.glb", nodes=nodes, size=64, outline=4, chain=chain)
    made = finish(imposter_of(opened(root, "yard.glb", nodes), settings))
    plan = chain_plan(source.model, settings, made.subject.pivot, made.triangles)
    data, _ = model_of(made, root)
    place = ReferenceFolder(root, "yard_levels.glb")
    whole = chained(source, plan, parse_gltf(data, place))
    (root / "yard_levels.glb").write_bytes(whole)
    if validator.is_there():
        assert validator.errors(root / "yard_levels.glb") == []
    return parse_model(whole, place, whole=True), plan, made


def test_a_chain_keeps_its_own_levels_above_the_switch(tmp_path):
    yard(tmp_path)
    model, plan, made = linked(tmp_path, ("box",), Chain(0.1, 0.01))
    box, low = (next(n for n in model.nodes if n.name == name) for name in ("box", "box low"))
    assert len(box.levels) == 2 and model.nodes[box.levels[0]] is low
    assert box.coverage == pytest.approx((0.5, 0.1, 0.01))
    assert [level.triangles for level in plan.levels] == [2, 2, made.triangles]
    # The imposter stands where the box is drawn, in the world.
    node = model.nodes[box.levels[1]]
    points = model.meshes[node.mesh].primitives[0].positions
    matrix = matrix_in_place_of(model, "box", node)
    points = points @ matrix[:3, :3].T + matrix[:3, 3]
    low, high = draw_list(model, roots=[model.nodes.index(box)]).box()
    np.testing.assert_allclose([points.min(axis=0)[:2], points.max(axis=0)[:2]], [low[:2], high[:2]], atol=0.1)
    # A switch that comes before its own level leaves that out; a thing farther away than its last level is drawn so, too.
    early, plan, _ = linked(tmp_path, ("box",), Chain(0.6))
    assert len(next(n for n in early.nodes if n.name == "box").levels) == 1
    assert [level.share for level in plan.levels] == [0.6, 0.0]
    assert (
        plan.levels[0].distance(2.0) == pytest.approx(2.0 / (2 * np.tan(0.5) * 0.6))
        and plan.levels[1].distance(2.0) is None
    )


def matrix_in_place_of(model, name, level):
    """The matrix to the world of a level where the node is that it stands for."""
    parent = next(place for place, n in enumerate(model.nodes) if any(model.nodes[c].name == name for c in n.children))
    return model.world_matrices()[parent] @ level.matrix


def test_several_nodes_become_one_thing_with_levels_by_name(tmp_path):
    yard(tmp_path)
    model, plan, _ = linked(tmp_path, ("box", "post"), Chain(0.2, form=ChainForm.NAMED))
    group = next(n for n in model.nodes if n.name == "group")
    assert [model.nodes[child].name for child in group.children] == ["far_LOD0", "far_LOD1"]
    assert sorted(model.nodes[c].name for c in model.nodes[group.children[0]].children) == ["box", "post"]
    assert plan.levels[0].triangles == 4
    source = model_at(tmp_path, "yard.glb")
    whole = linked(tmp_path, (), Chain(0.2))[0]
    assert [whole.nodes[root].name for root in whole.roots] == ["eye", "group"], "cameras stay where they are"
    assert whole.nodes[whole.roots[1]].levels and source.model.nodes[source.model.roots[0]].levels == ()
    with pytest.raises(ValueError, match="vanishes below"):
        Chain(0.1, 0.2)


def test_nodes_that_hang_apart_cannot_have_one_level(tmp_path):
    yard(tmp_path)
    with pytest.raises(Unsupported, match="hang on different nodes"):
        linked(tmp_path, ("box", "group"), Chain(0.2))


def test_an_outline_by_hand_is_taken_only_where_it_holds_all(tmp_path):
    sign(tmp_path)
    whole = ((0.0, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 1.0))
    wide = make(tmp_path, "sign.glb", axes="z", size=64, outlines=(HandOutline(0, whole),))
    assert len(wide.sheet.cards[0].outline) == 4 and not wide.sheet.refused
    row = wide.sheet.cards[0]
    np.testing.assert_allclose(row.outline - [row.x, row.y], np.array(whole) * [row.width, row.height])
    short = make(tmp_path, "sign.glb", axes="z", size=64, outlines=(HandOutline(0, ((0, 0), (1, 0), (0, 1))),))
    assert short.sheet.refused == (0,) and any("card 1 by hand" in line for line in short.warnings)


def test_overdraw_counts_every_layer_and_what_faces_away_not(tmp_path):
    made = Coat()
    paint, thin = made.paint("front"), made.paint("both", extra={"doubleSided": True})
    for place, (material, size) in enumerate(((paint, 2.0), (paint, 1.0), (thin, 1.0))):
        made.square(material, at=(-size / 2, -size / 2, place * 0.1), size=size)
    made.save(tmp_path / "layers.glb")
    scene = opened(tmp_path, "layers.glb").scene()
    ahead, behind = (Camera((0.0, 0.0, z), (0.0, 0.0, 0.0), 0.0, 4.0) for z in (5.0, -5.0))
    counts = overdraw(scene, ahead, (80, 80))
    assert counts[40, 40] == 3 and counts[25, 40] == 1 and counts[5, 5] == 0
    # Half of the picture's width and height are two metres: a square of one metre covers a sixteenth of it.
    assert abs((counts == 3).sum() / 80**2 - 1 / 16) < 0.01 and abs((counts > 0).sum() / 80**2 - 1 / 4) < 0.02
    assert overdraw(scene, behind, (80, 80)).max() == 1


def test_the_likeness_between_two_heights_lies_between(tmp_path):
    sign(tmp_path)
    made = make(tmp_path, "sign.glb", axes="z", size=64)
    found = finish(likeness(made.subject, stand_in(made, model_of(made, tmp_path)[1]), (64, 32)))
    near, far = found.rows
    middle = found.at(45.25)
    assert middle.overlap == pytest.approx((near.overlap + far.overlap) / 2, abs=2e-3)
    assert found.at(64).jnd == near.jnd and found.at(1000).apart == near.apart < 2


@pytest.fixture
def far_job(tmp_path):
    """A job on the yard."""
    root = tmp_path / "yard"
    root.mkdir()
    yard(root)
    return root


def built(root, *makers):
    return finish(survey_tree(root, ScanSettings(), BuildSpec(makers), SurveyCache()))


def test_in_a_job_it_stands_beside_its_model_and_ships(far_job, tmp_path):
    maker = Imposter("far", "yard.glb", nodes=("post",), size=64)
    tree = built(far_job, maker)
    inventory = tree.inventory
    assert not inventory.unmade and {m.path for m in inventory.models} == {"yard.glb", "far.glb"}
    assert {"far_base", "far_normal", "stone.png"} == set(inventory.row_of)
    assert inventory.roles[inventory.row_of["far_normal"]].role is Role.NORMAL
    plan = resolve(inventory, target_named("lounge"))
    packed = resolve(tree.found, plan.target, (Cut(SetFormat("bc7"), ("stone.png",)),))
    cuts = kind_of(maker).first_cuts(maker, packed, MakerContext(far_job))
    by_path = {cut.path: cut for cut in cuts}
    assert by_path["far_base"].format == "bc7"
    assert (by_path["far_base"].coverage, by_path["far_normal"].coverage) == (128, 0)
    begun = with_begun(new_job(far_job), maker, [packed])
    assert Cut(KeepCoverage(128), ("far_base",), ("lounge",)) in begun.cuts
    finish(ship(plan, tmp_path / "out"))
    shipped = parse_gltf((tmp_path / "out" / "far.glb").read_bytes(), ReferenceFolder(tmp_path / "out", "far.glb"))
    assert all((tmp_path / "out" / row["uri"]).is_file() for row in shipped.raw["images"])
    assert (tmp_path / "out" / "far.imposter.json").is_file() and (tmp_path / "out" / "yard.glb").is_file()


def test_in_a_job_a_chain_takes_the_place_of_its_model_and_stations_stay(far_job):
    inventory = built(far_job, Imposter("far", "yard.glb", nodes=("box",), size=64, chain=Chain(0.1))).inventory
    assert not inventory.unmade and [m.path for m in inventory.models] == ["far_levels.glb"]
    assert scene_of(inventory, "yard.glb") == 0
    # What the model reads is still read, through the new one.
    assert inventory.ownership.owners[inventory.row_of["stone.png"]]
    both = built(far_job, Imposter("a", "yard.glb", chain=Chain(0.1)), Imposter("b", "yard.glb", chain=Chain(0.2)))
    assert {row.path for row in both.inventory.unmade} == {"a", "b"}
    gone = built(far_job, Imposter("far", "yard.glb", nodes=("nobody",)))
    assert "has no node called 'nobody'" in gone.inventory.unmade[0].error


def test_far_things_and_what_is_advised_for_them(tmp_path):
    yard(tmp_path)
    found = built(tmp_path).found
    names = {thing.name: thing for thing in things_of(found)}
    assert {"yard", "group"} >= set(names) and names["yard"].triangles == 4
    near, far = Thing("yard.glb", "", 9000, 0.2), Thing("yard.glb", "group", 900, 0.015)
    assert advised(near, 1080).family is Family.CLOUD and advised(near, 1080).cards == 48
    low = advised(far, 1080)
    assert low.family is Family.CARDS and low.size == 128 and low.nodes == ("group",)
    assert low.chain.switch == pytest.approx(0.015 * 1.05) and advised(far, 2160).size == 256


def bush(root):
    """Three hundred small leaves every way, each with a round cut-out."""
    rng = np.random.default_rng(3)
    y, x = np.mgrid[0:64, 0:64] / 31.5 - 1
    leaf = smooth(64, 64, 4, seed=5).pixels.copy()
    leaf[..., 3] = np.where(x * x + y * y < 0.9, 255, 0)
    made = Coat()
    extra = {"doubleSided": True, "alphaMode": "MASK", "alphaCutoff": 0.5}
    paint = made.paint("leaf", extra=extra, baseColorTexture=made.picture(root, "leaf.png", Image.of(leaf)))
    turns = np.linalg.qr(rng.normal(size=(300, 3, 3)))[0]
    stack = [SQUARE * 0.25 @ turn + rng.uniform(0, 1, 3) for turn in turns]
    triangles = np.concatenate([np.asarray(SQUARE_TRIANGLES).reshape(-1, 3) + 4 * n for n in range(300)])
    made.add(paint, np.concatenate(stack).astype(np.float32), np.tile(UV, (300, 1)), triangles)
    return made.save(root / "bush.glb")


def test_a_card_on_which_nothing_shows_is_not_drawn(tmp_path):
    made = Coat()
    clear = Image.of(np.zeros((8, 8, 4), np.uint8))
    extra = {"doubleSided": True, "alphaMode": "MASK"}
    for name, picture, turn in (("seen", smooth(8, 8, 4), (0, 1, 2)), ("clear", clear, (2, 1, 0))):
        paint = made.paint(name, extra=extra, baseColorTexture=made.picture(tmp_path, f"{name}.png", picture))
        made.add(paint, SQUARE.astype(np.float32)[:, list(turn)], UV, SQUARE_TRIANGLES)
    made.save(tmp_path / "two.glb")
    found = make(tmp_path, "two.glb", family=Family.CLOUD, cards=2, size=64)
    assert len(found.sheet.cards) == 2 and len(found.sheet.drawn) == 1 and found.triangles == 2
    _, model = model_of(found, tmp_path)
    assert len(model.meshes[0].primitives[0].triangles) == 2
    assert imposter_json(found).count(b'"corner"') == 1


CARDS_VERTEX = """#version 330 core
in vec3 place; in vec2 uv; uniform mat4 to_clip; out vec2 at;
void main() { at = uv; gl_Position = to_clip * vec4(place, 1.0); }"""
CARDS_FRAGMENT = """#version 330 core
in vec2 at; uniform sampler2D base; out vec4 colour;
void main() { vec4 found = texture(base, at); if (found.a < 0.5) discard; colour = vec4(found.rgb, 1.0); }"""


def test_a_driver_draws_the_cards_that_ship_as_we_do(tmp_path):
    """What a game's renderer makes of the model and of the levels of its sheet, cut out at a half."""
    bush(tmp_path)
    made = make(tmp_path, "bush.glb", family=Family.CLOUD, cards=24, size=512, gutter=8, outline=6)
    _, model = model_of(made, tmp_path)
    context = moderngl.create_context(standalone=True, backend="egl")
    program = context.program(vertex_shader=CARDS_VERTEX, fragment_shader=CARDS_FRAGMENT)
    levels = preserve_alpha_coverage(build_mip_chain(made.sheet.maps[SheetMap.BASE]), 128)
    texture = context.texture(levels[0].size, 4, levels[0].pixels.tobytes(), internal_format=0x8C43)
    texture.build_mipmaps(0, len(levels) - 1)
    for number, level in enumerate(levels):
        texture.write(level.pixels.tobytes(), level=number, alignment=1)
    texture.filter = moderngl.LINEAR_MIPMAP_LINEAR, moderngl.LINEAR
    texture.use()
    (primitive,) = model.meshes[0].primitives
    vertices = np.concatenate([primitive.positions, primitive.uvs[0]], axis=1)[primitive.triangles.reshape(-1)]
    array = context.vertex_array(program, [(context.buffer(vertices.astype("f4").tobytes()), "3f 2f", "place", "uv")])
    subject = made.subject
    overlaps = {}
    for side in (128, 64, 32):
        both = either = like = any_of = 0
        for turn in np.linspace(0, 2 * np.pi, 16, endpoint=False):
            way = np.array([np.sin(turn), 0.3, np.cos(turn)])
            camera = framing(subject.low, subject.high, tuple(way))
            target = context.simple_framebuffer((side, side), 4)
            target.use()
            target.clear()
            context.enable_only(moderngl.DEPTH_TEST)
            program["to_clip"].value = tuple(camera.to_clip(1.0).T.reshape(-1))
            array.render()
            theirs = np.frombuffer(target.read(components=4), np.uint8).reshape(side, side, 4)[::-1, :, 3] > 127
            ours = finish(draw(stand_in(made, model).scene, camera, (side, side), Settings(1))).colour[..., 3] > 0.5
            real = finish(draw(subject.scene(), camera, (side, side), Settings(16))).colour[..., 3] > 0.5
            both, either = both + int((ours & theirs).sum()), either + int((ours | theirs).sum())
            like, any_of = like + int((real & theirs).sum()), any_of + int((real | theirs).sum())
        overlaps[side] = both / either, like / any_of
    assert min(same for same, _ in overlaps.values()) > 0.95
    assert overlaps[64][1] > 0.86 and overlaps[32][1] > 0.82


def test_what_moves_is_baked_at_a_moment_of_its_clip(tmp_path):
    """A mast that lies at rest and stands upright after a second."""
    made = Coat()
    made.add(made.paint("mast"), (SQUARE * [4, 0.2, 1]).astype(np.float32), UV, SQUARE_TRIANGLES)
    writer = made.writer
    mast = writer.add("nodes", name="mast", mesh=writer.add("meshes", primitives=made.primitives))
    writer.json |= {"scenes": [{"nodes": [mast]}], "scene": 0}
    times = writer.accessor(np.array([[0.0], [1.0]], np.float32)[:, 0], bounds=True, indices=False)
    upright = [0.0, 0.0, np.sin(np.pi / 4), np.cos(np.pi / 4)]
    turns = writer.accessor(np.array([[0, 0, 0, 1], upright], np.float32), indices=False)
    writer.json["animations"] = [
        {
            "name": "raise",
            "samplers": [{"input": times, "output": turns}],
            "channels": [{"sampler": 0, "target": {"node": mast, "path": "rotation"}}],
        }
    ]
    (tmp_path / "mast.glb").write_bytes(writer.glb())
    model = model_at(tmp_path, "mast.glb").model
    rest, up = (subject_of(model, lambda _: None, moment=moment) for moment in (None, Moment("raise", 1.0)))
    assert np.allclose(rest.high - rest.low, [4, 0.2, 0], atol=1e-5)
    assert np.allclose(up.high - up.low, [0.2, 4, 0], atol=1e-5)
    with pytest.raises(FileError, match="no animation called 'lower'; it has raise"):
        subject_of(model, lambda _: None, file="mast.glb", moment=Moment("lower"))
