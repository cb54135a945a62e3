"""Makers in the build: what they make stands in the place of its sources, is made anew when these change, and ships."""

import hashlib
import json

import msgspec
import numpy as np
import pytest
from PIL import Image as PillowImage
from tests.kit import validator
from tests.kit.models import add_mesh, material, scene
from tests.kit.pictures import busy, noise
from tests.kit.trees import put, write_model

from oaktrim.core.codecs.texture import decode_level
from oaktrim.core.errors import DocumentError, ShipError
from oaktrim.core.files.gltf import parse_gltf
from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.files.pictures import parse_texture, png_bytes
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.job.begin import saved, with_begun
from oaktrim.core.job.document import Job, load_job, new_job, root_of, save_job
from oaktrim.core.job.makers import NamePatterns
from oaktrim.core.makers.build import survey_tree, unknown, with_makers
from oaktrim.core.makers.glyphs.sheet import GlyphSheet, Metrics
from oaktrim.core.makers.pack.pack import Channel, ChannelSource, Lane, Pack
from oaktrim.core.makers.patch.patch import Patch, Rect
from oaktrim.core.plan.cuts import Cap, Cut, SetFormat
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.plan.verdict import findings_of
from oaktrim.core.progress import finish
from oaktrim.core.scene.slots import Slot
from oaktrim.core.ship.run import ship
from oaktrim.core.ship.schedule import Reason, schedule
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.roles import Role
from oaktrim.core.targets.target import target_named
from oaktrim.demo.signface import sign_font

ORM = "occlusion-roughness-metalness"
LANES = (
    Lane((ChannelSource("wall/brick_ao.png"),)), Lane((ChannelSource("wall/brick_gloss.png", invert=True),)),
    Lane(fill=0.0), Lane(),
)  # fmt: skip
PACK = Pack("wall/brick_orm", ORM, LANES, ("house.glb#materials/brick",), "brick")


@pytest.fixture
def root(tmp_path):
    """Two materials of one model, maps to pack, an overlay that is mostly empty, a font."""
    art = tmp_path / "art"
    put(art, "wall/brick_base.png")
    put(art, "wall/brick_ao.png", busy(64, 64, 1, seed=1).pixels)
    put(art, "wall/brick_gloss.png", busy(64, 64, 1, seed=2).pixels)
    sign = np.zeros((64, 128, 4), np.uint8)
    sign[20:30, 40:60] = noise(20, 10, 4).pixels | 64
    put(art, "sign_overlay.png", sign)
    (art / "signs.ttf").write_bytes(sign_font())
    writer = GltfWriter()
    base, ao = writer.image("wall/brick_base.png"), writer.image("wall/brick_ao.png")
    words = writer.image("sign_overlay.png")
    brick = material(writer, "brick", baseColorTexture=base, occlusionTexture=ao)
    writer.json["materials"][brick]["occlusionTexture"]["strength"] = 0.8
    sign = material(writer, "sign", baseColorTexture=words)
    writer.json["materials"][sign]["alphaMode"] = "BLEND"
    nodes = [writer.add("nodes", mesh=add_mesh(writer, worn)) for worn in (brick, sign)]
    scene(writer, *nodes)
    write_model(art, "house.glb", writer)
    return art


def job_of(root, *makers, **more):
    return msgspec.structs.replace(new_job(root), makers=makers, **more)


def built(root, job, cache=None):
    return finish(survey_tree(root, job.scan_settings, job.build_spec, cache)).inventory


def plan_of(root, job, target="lounge", cache=None):
    return resolve(built(root, job, cache), target_named(target), job.cuts)


def test_a_pack_stands_in_the_place_of_its_sources(root):
    inventory = built(root, job_of(root, PACK))
    assert set(inventory.replaced) == {"wall/brick_ao.png", "wall/brick_gloss.png"}
    assert "wall/brick_ao.png" not in inventory.row_of
    facts = inventory.textures[inventory.row_of["wall/brick_orm"]]
    assert (facts.width, facts.height, facts.channels, facts.bit_depth, facts.live) == (64, 64, 3, 8, "RG")
    guess = inventory.roles[inventory.row_of["wall/brick_orm"]]
    assert (guess.role, guess.reason) == (Role.SURFACE, "packed as Occlusion · roughness · metalness")
    owners = inventory.ownership.owners[inventory.row_of["wall/brick_orm"]]
    assert {inventory.ownership.material(owner).name for owner in owners} == {"brick"}
    assert Slot.OCCLUSION in {owner.slot.slot for owner in owners}
    paths = [t.path for t in inventory.textures]
    assert paths == sorted(paths)
    # Every total counts it: memory falls by two single channels and grows by one plain texture.
    before, after = (resolve(i, target_named("lounge")) for i in (built(root, job_of(root)), inventory))
    chain = sum(max(1, 64 >> level) ** 2 for level in range(7))
    assert before.total("memory") - after.total("memory") == 2 * chain - 4 * chain
    assert saved(before, after, PACK.name, "memory") == -2 * chain


def test_what_others_read_stays(root):
    writer = GltfWriter()
    other = material(writer, "other", occlusionTexture=writer.image("wall/brick_ao.png"))
    scene(writer, writer.add("nodes", mesh=add_mesh(writer, other)))
    write_model(root, "shed.glb", writer)
    inventory = built(root, job_of(root, PACK))
    assert set(inventory.replaced) == {"wall/brick_gloss.png"}
    row = inventory.row_of["wall/brick_ao.png"]
    assert [o.model for o in inventory.ownership.owners[row]] == [1], "the first model reads the pack now"
    kept = built(root, job_of(root, msgspec.structs.replace(PACK, keeps=True)))
    assert not kept.replaced and "wall/brick_gloss.png" in kept.row_of


def test_shipping_writes_what_was_packed_and_assigns_it(root, tmp_path):
    job, out = job_of(root, PACK), tmp_path / "out"
    shipped = finish(ship(plan_of(root, job), out))
    assert not shipped.manifest.failed
    assert not (out / "wall/brick_ao.dds").exists()
    path = out / "wall/brick_orm.dds"
    image = decode_level(parse_texture(path.read_bytes(), path))
    ao, gloss = (np.asarray(PillowImage.open(root / f"wall/brick_{name}.png")) for name in ("ao", "gloss"))
    np.testing.assert_array_equal(image.pixels[..., :3], np.stack([ao, 255 - gloss, 0 * ao], axis=2))
    document = parse_gltf((out / "house.glb").read_bytes(), ReferenceFolder(out, "house.glb"))
    brick = document.raw["materials"][0]
    pbr = brick["pbrMetallicRoughness"]
    shared = pbr["metallicRoughnessTexture"]["index"]
    assert brick["occlusionTexture"] == {"index": shared, "strength": 0.8}
    assert (pbr["metallicFactor"], pbr["roughnessFactor"]) == (1, 1)
    source = document.raw["textures"][shared]["extensions"]["MSFT_texture_dds"]["source"]
    assert document.raw["images"][source]["uri"] == "wall/brick_orm.dds"
    uris = [image["uri"] for image in document.raw["images"]]
    assert sorted(uris) == ["sign_overlay.dds", "wall/brick_base.dds", "wall/brick_orm.dds"], "no reference dangles"
    if validator.is_there():
        assert validator.errors(out / "house.glb") == []
    again = finish(ship(plan_of(root, job), out))
    assert (again.written, again.beside) == (0, 0)


def test_it_is_made_again_when_a_source_changes(root, tmp_path):
    job, out, cache = job_of(root, PACK), tmp_path / "out", SurveyCache(tmp_path / "cache.sqlite")
    finish(ship(plan_of(root, job, cache=cache), out))
    put(root, "wall/brick_gloss.png", busy(64, 64, 1, seed=9).pixels)
    changed = plan_of(root, job, cache=cache)
    due = {item.recipe.path: item.reason for item in schedule(changed, out)}
    assert due.pop("wall/brick_orm") is Reason.SOURCE
    assert set(due.values()) == {Reason.UNCHANGED}
    turned = msgspec.structs.replace(PACK, lanes=(LANES[1], LANES[0], *LANES[2:]))
    assert {i.reason for i in schedule(plan_of(root, job_of(root, turned)), out) if i.recipe.path == PACK.name} == {
        Reason.SOURCE
    }
    # A source that changes between the survey and the run is told, not shipped under an old name.
    put(root, "wall/brick_gloss.png", busy(64, 64, 1, seed=10).pixels)
    failed = finish(ship(changed, out)).manifest.failed
    assert [(f.source, "changed since it was surveyed" in f.error) for f in failed] == [("wall/brick_orm", True)]


def test_a_patch_ships_with_its_place_and_its_model_reads_it_there(root, tmp_path):
    patch = Patch("sign_patch", "sign_overlay.png", Rect(36, 16, 32, 16))
    out = tmp_path / "out"
    shipped = finish(ship(plan_of(root, job_of(root, patch)), out))
    assert not shipped.manifest.failed and not (out / "sign_overlay.dds").exists()
    side = json.loads((out / "sign_patch.patch.json").read_text())
    assert side["schema"] == "oak-trim.patch/1"
    assert side["from_bottom_left"]["pixels"] == {"x": 36, "y": 32, "width": 32, "height": 16}
    document = parse_gltf((out / "house.glb").read_bytes(), ReferenceFolder(out, "house.glb"))
    info = document.raw["materials"][1]["pbrMetallicRoughness"]["baseColorTexture"]
    moved = info["extensions"]["KHR_texture_transform"]
    # What the model reads at its own UVs is what it read of the overlay there.
    path = out / "sign_patch.dds"
    cut = decode_level(parse_texture(path.read_bytes(), path)).pixels
    whole = np.asarray(PillowImage.open(root / "sign_overlay.png"))
    for x, y in ((40, 20), (59, 29), (47, 23), (36, 16)):
        uv = np.array([(x + 0.5) / 128, (y + 0.5) / 64]) * moved["scale"] + moved["offset"]
        np.testing.assert_array_equal(cut[int(uv[1] * 16), int(uv[0] * 32)], whole[y, x])
    sampler = document.raw["samplers"][document.raw["textures"][info["index"]]["sampler"]]
    assert (sampler["wrapS"], sampler["wrapT"]) == (33071, 33071)
    assert not cut[0].any() and not cut[:, -1].any(), "the border that goes on for ever is empty"
    if validator.is_there():
        assert validator.errors(out / "house.glb") == []


def test_an_image_that_a_model_holds_can_be_packed_too(root, tmp_path):
    writer = GltfWriter()
    held = writer.image("held", data=png_bytes(busy(16, 16, 1, seed=3).pixels))
    cloth = material(writer, "cloth", occlusionTexture=held)
    scene(writer, writer.add("nodes", mesh=add_mesh(writer, cloth)))
    write_model(root, "sail.glb", writer)
    lanes = (
        Lane((ChannelSource("sail.glb#images/0"),)),
        Lane((ChannelSource("wall/brick_gloss.png"),)),
        Lane(fill=0.0),
        Lane(),
    )
    pack = Pack("", ORM, lanes, ("sail.glb#materials/cloth",), "cloth")
    job = new_job(root)
    job = job.with_maker(job.named(pack))
    assert job.makers[0].name == "cloth_orm"
    assert job.named(Patch("", "sail.glb#images/0", Rect(0, 0, 4, 4))).name == "sail_0_patch"
    out = tmp_path / "out"
    assert not finish(ship(plan_of(root, job), out)).manifest.failed
    document = parse_gltf((out / "sail.glb").read_bytes(), ReferenceFolder(out, "sail.glb"))
    assert [image["uri"] for image in document.raw["images"]] == ["cloth_orm.dds"]
    assert len(document.binary) < len((root / "sail.glb").read_bytes()) - 200, "what it held is gone"
    if validator.is_there():
        assert validator.errors(out / "sail.glb") == []


def test_several_patches_leave_the_overlay_to_the_model(root, tmp_path):
    parts = [Patch(f"sign_{n}", "sign_overlay.png", Rect(36 + 8 * n, 16, 8, 8)) for n in range(2)]
    out = tmp_path / "out"
    plan = plan_of(root, job_of(root, *parts))
    assert not plan.inventory.replaced and set(plan.inventory.made) == {"sign_0", "sign_1"}
    finish(ship(plan, out))
    document = parse_gltf((out / "house.glb").read_bytes(), ReferenceFolder(out, "house.glb"))
    assert "sign_overlay.dds" in {image["uri"] for image in document.raw["images"]}
    assert "KHR_texture_transform" not in document.raw["extensionsUsed"]


def test_several_patches_replace_an_overlay_that_no_model_reads(root):
    put(root, "ui/map_overlay.png", size=(64, 64), channels=4)
    parts = [Patch(f"ui/map_{n}", "ui/map_overlay.png", Rect(32 * n, 0, 16, 16)) for n in range(2)]
    plan = plan_of(root, job_of(root, *parts))
    assert "ui/map_overlay.png" in plan.inventory.replaced
    paths = {texture.path for texture in plan.inventory.textures}
    assert {"ui/map_0", "ui/map_1"} <= paths and "ui/map_overlay.png" not in paths
    kept = plan_of(root, job_of(root, *(msgspec.structs.replace(part, keeps=True) for part in parts)))
    assert "ui/map_overlay.png" in {texture.path for texture in kept.inventory.textures}


def test_a_sheet_ships_with_metrics_and_shading(root, tmp_path):
    sheet = GlyphSheet("ui/signs", "signs.ttf", 32, "AV0: ")
    plan = plan_of(root, job_of(root, sheet))
    assert plan.inventory.roles[plan.inventory.row_of["ui/signs"]].role is Role.GLYPHS
    out = tmp_path / "out"
    finish(ship(plan, out))
    metrics = msgspec.json.decode((out / "ui/signs.glyphs.json").read_bytes(), type=Metrics)
    path = out / "ui/signs.dds"
    image = decode_level(parse_texture(path.read_bytes(), path))
    assert image.size == (metrics.width, metrics.height)
    row = next(g for g in metrics.glyphs if g.character == "V")
    codes = image.pixels[row.y : row.y + row.height, row.x : row.x + row.width, "RGBA".index(row.channel)]
    assert codes.max() == 255
    assert b"glyph_coverage" in (out / "ui/signs.glsl").read_bytes()
    (root / "signs.ttf").unlink()
    gone = built(root, job_of(root, sheet))
    assert [(u.path, "signs.ttf" in u.error) for u in gone.unmade] == [("ui/signs", True)]


def test_what_cannot_be_made_stops_a_run_before_anything_is_written(root, tmp_path):
    faults = {
        "gone": msgspec.structs.replace(PACK, lanes=(Lane((ChannelSource("gone.png"),)), *LANES[1:])),
        "name": msgspec.structs.replace(PACK, name="../out"),
        "layout": msgspec.structs.replace(PACK, layout="nobody"),
        "clash": msgspec.structs.replace(PACK, name="wall/brick_base"),
    }
    words = {
        "gone": "gone.png: is not there", "name": "below the root", "layout": "no layout 'nobody'",
        "clash": "a texture that ships has that name",
    }  # fmt: skip
    for what, maker in faults.items():
        inventory = built(root, job_of(root, maker))
        assert [words[what] in row.error for row in inventory.unmade] == [True], what
        assert not inventory.replaced, "its sources stay"
        told = [f for f in findings_of(resolve(inventory, target_named("lounge"))) if f.code == "unreadable"]
        assert [(f.path, "cannot be made" in f.message) for f in told] == [(maker.name, True)]
        with pytest.raises(ShipError, match="cannot be made"):
            finish(ship(resolve(inventory, target_named("lounge")), tmp_path / "out"))
        assert not (tmp_path / "out").exists()
    twice = built(root, job_of(root, PACK, msgspec.structs.replace(PACK, size=32)))
    assert "another maker" in twice.unmade[0].error and len(twice.made) == 1
    torn = root / "wall/brick_gloss.png"
    job = job_of(root, PACK)
    tree = finish(survey_tree(root, job.scan_settings, job.build_spec))
    torn.write_bytes(torn.read_bytes()[:100])
    missing = built(root, job)
    assert "brick_gloss.png" in missing.unmade[0].error
    assert not tree.inventory.unmade


def test_a_maker_can_use_what_another_made(root):
    halves = Pack(
        "wall/masks", "masks-three", (Lane((ChannelSource("wall/brick_orm", Channel.GREEN),)), Lane(), Lane(), Lane())
    )
    inventory = built(root, job_of(root, PACK, msgspec.structs.replace(halves, keeps=True)))
    assert set(inventory.made) == {"wall/brick_orm", "wall/masks"} and not inventory.unmade
    gloss = np.asarray(PillowImage.open(root / "wall/brick_gloss.png"))
    image = inventory.sources(1 << 20).picture("wall/masks")
    np.testing.assert_array_equal(image.pixels[..., 0], 255 - gloss)
    wrong = built(root, job_of(root, halves, PACK))
    assert wrong.unmade[0].path == "wall/masks", "a maker sees only those before it"


def test_facts_are_learned_once_and_sketched_until_then(root, tmp_path):
    job, cache = job_of(root, PACK), SurveyCache(tmp_path / "cache.sqlite")
    tree = finish(survey_tree(root, job.scan_settings, job.build_spec, cache))
    facts = tree.inventory.textures[tree.inventory.row_of[PACK.name]]
    assert cache.made(facts.content) == facts and cache.thumbnail(facts.content) is not None
    fresh = type(tree.derived_facts)()
    sketch = with_makers(tree.found, job.build_spec, fresh)
    row = sketch.textures[sketch.row_of[PACK.name]]
    assert (row.width, row.channels, row.pixels, row.content) == (64, 3, "", facts.content)
    assert unknown(sketch, job.build_spec) == [PACK.name] and not unknown(tree.inventory, job.build_spec)


def test_cuts_begin_like_those_of_the_sources(root):
    cuts = (
        Cut(SetFormat("bc4"), ("wall/brick_ao.png", "wall/brick_gloss.png"), ("lounge",)),
        Cut(Cap(32), ("wall/brick_ao.png", "wall/brick_gloss.png"), ("lounge",)),
    )
    job = job_of(root, cuts=cuts)
    plans = [plan_of(root, job, name) for name in ("lounge", "pocket")]
    packed = with_begun(job, PACK, plans)
    mine = [(cut.change, cut.targets) for cut in packed.cuts if cut.assets == (PACK.name,)]
    assert mine == [(Cap(32), ("lounge",)), (SetFormat("bc7"), ("lounge",))]
    recipe = plan_of(root, packed).recipe(built(root, packed).row_of[PACK.name])
    assert (recipe.settings.width, recipe.settings.format) == (32, "bc7")
    renamed = packed.with_names(NamePatterns(pack="packed/{material}"))
    assert renamed.makers[0].name == "packed/brick"
    assert {cut.assets for cut in renamed.cuts} == {cuts[0].assets, ("packed/brick",)}
    assert packed.without_maker(PACK.name).cuts == job.cuts


def test_jobs_keep_makers_and_name_what_is_wrong_in_them(root, tmp_path):
    job = job_of(
        root, PACK, Patch("p", "sign_overlay.png", Rect(0, 0, 4, 4)), GlyphSheet("g", "signs.ttf", 32, "AB"),
        names=NamePatterns(pack="{material}"), map_names={ORM: {"occlusion": "{name}_ao"}},
    )  # fmt: skip
    file = tmp_path / "house.oak"
    written = save_job(job, file, root)
    assert load_job(file) == written and root_of(written, file) == root
    for change, words in (
        (lambda d: d["makers"][0]["lanes"][1]["feeds"][0].update(channel="X"), r"makers\[0\]\.lanes\[1\]\.feeds\[0\]"),
        (lambda d: d["makers"][2].update(size=1), r"4 to 512.*makers\[2\]"),
        (lambda d: d["names"].update(pack="{nobody}"), r"\{nobody\} is not known.*names"),
        (lambda d: d["makers"][1].update(surprise=1), "surprise"),
    ):
        document = json.loads(file.read_bytes())
        change(document)
        wrong = tmp_path / "wrong.oak"
        wrong.write_text(json.dumps(document))
        with pytest.raises(DocumentError, match=words):
            load_job(wrong)


def test_sources_are_left_as_they_are(root, tmp_path):
    def prints():
        return {p: hashlib.blake2b(p.read_bytes()).hexdigest() for p in root.rglob("*") if p.is_file()}

    before = prints()
    job = Job(1, "all", str(root), ("lounge",), makers=(PACK, GlyphSheet("ui/signs", "signs.ttf", 32, "AB")))
    finish(ship(plan_of(root, job), tmp_path / "out"))
    assert prints() == before
