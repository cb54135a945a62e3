"""Atlases: what is merged and what not, texels that stay the same, vectors that turn, models that stay whole."""

import time

import numpy as np
import pytest
from tests.kit import validator
from tests.kit.atlases import UV, Coat, coat, gather, json_of, likeness, make, notes, opened, placed, plan_of
from tests.kit.models import SQUARE, SQUARE_TRIANGLES
from tests.kit.pictures import busy, noise, smooth

from oaktrim.core.errors import FileError, Unsupported
from oaktrim.core.files.gltf import parse_gltf
from oaktrim.core.files.pictures import read_picture, write_png
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.makers.atlas.making import lay_out, sheet_rows
from oaktrim.core.makers.atlas.settings import (
    Atlas,
    FactorUse,
    MaterialChoice,
    Pin,
    Repeats,
    Rotation,
    Shrink,
    Take,
    VisibleScale,
    Weight,
)
from oaktrim.core.makers.build import BuildSpec, survey_tree
from oaktrim.core.pixels.image import Image
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.progress import finish
from oaktrim.core.scene.gltf.model import model_of
from oaktrim.core.ship.run import ship
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.roles import Role
from oaktrim.core.survey.scan import ScanSettings
from oaktrim.core.targets.target import target_named


def texels(result, name, ending="base"):
    """The part of a sheet on which a material's first island stands, as a square picture turned back; exact places only."""
    matrix, sheet = placed(result, name)
    image = next(v for k, v in result.sheets.items() if k.endswith(ending))
    assert sheet == 0

    def read(width, height):
        y, x = np.mgrid[0:height, 0:width] + 0.5
        at = np.einsum("ab,bhw->ahw", matrix[:, :2], np.stack([x, y])) + matrix[:, 2][:, None, None]
        column, row = (np.floor(side).astype(int) for side in at)
        return image.pixels[row, column]

    return read


@pytest.mark.parametrize("turn", [0, 1, 2, 3])
def test_texels_moved_whole_are_the_same_in_every_turn(tmp_path, turn):
    coat(tmp_path)
    result = make(tmp_path, "coat.glb", pins=(Pin(0, sheet=0, x=64, y=72, turn=turn),))
    np.testing.assert_array_equal(texels(result, "cloth")(64, 64), read_picture(tmp_path / "cloth.png").pixels)
    np.testing.assert_array_equal(texels(result, "felt")(64, 64), read_picture(tmp_path / "felt.png").pixels)
    islands = json_of(result)["islands"]
    assert islands[0]["place"][:2] == [64, 72] and islands[0]["turns"] == turn
    for row in islands[:3]:
        assert row["levels_lost"] == 0 and row["place"][0] % 8 == 0 and row["place"][1] % 8 == 0


def test_four_materials_of_two_kinds_become_one(tmp_path):
    coat(tmp_path)
    result = make(tmp_path, "coat.glb")
    (group,) = result.laid_out.gathered.groups
    assert len(group.contents) == 4 and set(notes(result.laid_out.gathered).values()) == {""}
    assert {name.split("_")[-1] for name in result.sheets} == {"base", "orm"}
    # Tints are multiplied in light: IEC 61966-2-1 decoded, times the factor, encoded.
    codes = read_picture(tmp_path / "cloth.png").pixels / 255.0
    light = np.where(codes <= 0.04045, codes / 12.92, ((codes + 0.055) / 1.055) ** 2.4) * [0.5, 0.25, 1]
    wanted = 255 * np.where(light <= 0.0031308, light * 12.92, 1.055 * light ** (1 / 2.4) - 0.055)
    assert np.abs(texels(result, "dyed")(64, 64) - wanted).max() <= 1
    matrix, _ = placed(result, "brass")
    x, y = (matrix @ [2, 2, 1]).astype(int)
    assert result.sheets["coats_base"].pixels[y, x].tolist() == [231, 203, 124]
    orm = result.sheets["coats_orm"].pixels
    shift = result.sheets["coats_base"].width // orm.shape[1]
    assert orm[y // shift, x // shift, 2] == 255
    alike = likeness(tmp_path, result, "coat.glb", side=256)
    assert alike.outline == 0 and alike.psnr > 50


def test_materials_of_equal_content_are_one_and_models_share_sheets(tmp_path):
    coat(tmp_path)
    again = Coat()
    write_png(tmp_path / "copy.png", read_picture(tmp_path / "cloth.png"))
    again.maps["copy.png"] = again.writer.image("copy.png")
    again.square(again.paint("same cloth", baseColorTexture=again.maps["copy.png"]))
    again.save(tmp_path / "cap.glb")
    result = make(tmp_path, "coat.glb", "cap.glb")
    by_name = {note.material.name: note for note in result.laid_out.gathered.notes}
    assert result.laid_out.gathered.notes[by_name["same cloth"].same_as].material.name == "cloth"
    assert set(result.models) == {"coat.glb", "cap.glb"}
    for name in result.models:
        assert likeness(tmp_path, result, name, side=128).outline == 0
        raw = result.models[name].raw
        assert raw["images"][0]["uri"] == "coats_base.png" and len(raw["materials"]) == 1


def bumpy(root, turns=0.0):
    """Two squares whose bumps lean one way, with tangents in the file, one of them mirrored."""
    made_of = Coat()
    lean = np.zeros((64, 64, 3), np.uint8)
    y, x = np.mgrid[0:64, 0:64] / 64.0 * 2 * np.pi
    vector = np.stack([0.5 * np.sin(2 * x), 0.35 * np.cos(3 * y) + 0.2, np.ones_like(x)], axis=2)
    lean[:] = np.rint((vector / np.linalg.norm(vector, axis=2, keepdims=True) + 1) / 2 * 255)
    bump, grey = made_of.picture(root, "lean.png", Image.of(lean)), made_of.picture(root, "grey.png", smooth(64, 64, 3))
    tangents = np.tile(np.array([1, 0, 0, 1], np.float32), (4, 1))
    made_of.square(made_of.paint("left", baseColorTexture=grey, normalTexture=bump), TANGENT=tangents)
    flipped = np.stack([1 - UV[:, 0], UV[:, 1]], axis=1)
    turned = tangents * [-1, 1, 1, -1]
    made_of.square(
        made_of.paint("right", {"roughnessFactor": 0.5}, baseColorTexture=grey, normalTexture=bump), uv=flipped, at=(1.2, 0, 0),
        TANGENT=turned.astype(np.float32),
    )  # fmt: skip
    return made_of.save(root / "bumpy.glb")


@pytest.mark.parametrize("turn", [0, 1, 2, 3])
def test_bumps_turn_with_their_islands(tmp_path, turn):
    bumpy(tmp_path)
    pins = (Pin(0, sheet=0, x=8, y=8, turn=turn), Pin(1, sheet=0, x=96, y=8, turn=(turn + 1) % 4))
    result = make(tmp_path, "bumpy.glb", pins=pins)
    alike = likeness(tmp_path, result, "bumpy.glb", side=256)
    assert alike.outline == 0 and alike.psnr > 47
    # The same without turning the vectors is far off, so that the measure above can tell.
    sheet = result.sheets["coats_normal"]
    straight = Image(np.full_like(sheet.pixels, 128) + np.array([0, 0, 127], np.uint8), sheet.channels, sheet.transfer)
    flat = likeness(
        tmp_path,
        type(result)(**{**vars(result), "sheets": {**result.sheets, "coats_normal": straight}}),
        "bumpy.glb",
        side=256,
    )
    assert flat.psnr < alike.psnr - 12


def dressed(root):
    """A model with a skin, morph targets, colours, a second UV set, extras and an extension that nobody knows."""
    made_of = Coat()
    cloth = made_of.picture(root, "cloth.png", busy(64, 64, 3))
    felt = made_of.picture(root, "felt.png", busy(64, 64, 3, seed=9))
    writer = made_of.writer
    bones = {"JOINTS_0": np.zeros((4, 4), np.uint8), "WEIGHTS_0": np.tile(np.array([1, 0, 0, 0], np.float32), (4, 1))}
    colours = np.linspace(0, 1, 16, dtype=np.float32).reshape(4, 4)
    for number, (name, picture) in enumerate((("cloth", cloth), ("felt", felt))):
        row = made_of.square(
            made_of.paint(name, baseColorTexture=picture),
            at=(2 * number, 0, 0),
            COLOR_0=colours,
            TEXCOORD_1=UV * 0.5,
            **bones,
        )
        shift = np.full((4, 3), 0.25 * (number + 1), np.float32)
        row["targets"] = [{"POSITION": writer.accessor(shift, bounds=True, indices=False)}]
        row["extras"] = {"label": "coat"}
    joint = writer.add("nodes", name="hip")
    writer.add("skins", joints=[joint], inverseBindMatrices=writer.accessor(np.eye(4, dtype=np.float32).reshape(1, 16)))
    writer.json["extensionsUsed"] = ["ACME_cloth"]
    writer.json["extensions"] = {"ACME_cloth": {"weave": 3}}
    path = made_of.save(root / "dressed.glb", skin=0, extras={"keep": [1, 2]})
    raw = writer.json
    raw["scenes"][0]["nodes"].append(joint)
    path.write_bytes(writer.glb())
    return path


def test_a_model_stays_whole_but_for_what_is_merged(tmp_path):
    path = dressed(tmp_path)
    before = path.read_bytes()
    result = make(tmp_path, "dressed.glb")
    again = result.models["dressed.glb"]
    assert (again.before.draws, again.before.materials) == (2, 2) and (again.after.draws, again.after.materials) == (
        1,
        1,
    )
    assert again.seams == 0 and path.read_bytes() == before
    assert again.raw["extensions"] == {"ACME_cloth": {"weave": 3}}
    node = next(row for row in again.raw["nodes"] if row["name"] == "coat")
    assert node["extras"] == {"keep": [1, 2]} and node["skin"] == 0
    (row,) = again.raw["meshes"][0]["primitives"]
    assert row["extras"] == {"label": "coat"} and {"JOINTS_0", "WEIGHTS_0", "COLOR_0", "TEXCOORD_1"} <= set(
        row["attributes"]
    )
    document = parse_gltf(again.glb(), opened(tmp_path, "dressed.glb")[0].document.place)
    moved = document.stored(row["targets"][0]["POSITION"])
    points = document.stored(row["attributes"]["POSITION"])
    np.testing.assert_array_equal(moved[:, 0], np.where(points[:, 0] < 1.5, 0.25, 0.5))
    if validator.is_there():
        out = tmp_path / "out.glb"
        out.write_bytes(again.glb())
        for name, image in result.sheets.items():
            write_png(tmp_path / f"{name}.png", image)
        assert validator.errors(out) == []


def repeated(root, times=3.0):
    made_of = Coat()
    tiles = made_of.picture(root, "tiles.png", busy(64, 64, 3))
    made_of.square(made_of.paint("tiles", baseColorTexture=tiles), uv=UV * times + 0.25)
    made_of.square(
        made_of.paint("felt", baseColorTexture=made_of.picture(root, "felt.png", busy(64, 64, 3, seed=8))),
        at=(1.5, 0, 0),
    )
    made_of.square(
        made_of.paint("fur", baseColorTexture=made_of.picture(root, "fur.png", busy(64, 64, 3, seed=7))), at=(3, 0, 0)
    )
    return made_of.save(root / "floor.glb")


@pytest.mark.parametrize(("how", "least"), [(Repeats.BAKE, 45), (Repeats.SPLIT, 45)])
def test_repeats_are_written_out_or_their_triangles_split(tmp_path, how, least):
    repeated(tmp_path)
    result = make(tmp_path, "floor.glb", repeats=how, size=512)
    alike = likeness(tmp_path, result, "floor.glb", side=256)
    # New vertices on edges are rounded to floats: a pixel of twelve views may tell.
    assert alike.outline <= (2 if how is Repeats.SPLIT else 0) and alike.psnr > least
    again = result.models["floor.glb"]
    island = json_of(result)["islands"][0]
    if how is Repeats.SPLIT:
        # 3 tiles from .25 to 3.25 are 4 by 4 pieces; all read the one tile, so that they stay together as one island.
        assert island["source"] == [0, 0, 64, 64] and again.seams > 0 and again.before.vertices == 12
    else:
        assert island["source"] == [16, 16, 192, 192] and again.seams == 0


def test_what_tiles_too_often_or_is_left_says_so(tmp_path):
    repeated(tmp_path, times=40)
    gathered, _, _ = gather(tmp_path, "floor.glb")
    assert "40 times across and 40 down: it tiles, and written out would take 25.0 MiB" in notes(gathered)["tiles"]
    by_hand = (MaterialChoice("floor.glb#materials/tiles", repeats=Repeats.BAKE),)
    assert notes(gather(tmp_path, "floor.glb", materials=by_hand)[0])["tiles"] == ""
    left = (MaterialChoice("floor.glb#materials/felt", take=Take.LEAVE),)
    assert notes(gather(tmp_path, "floor.glb", materials=left)[0])["felt"] == "left out by hand"


def test_what_is_drawn_in_another_way_stays_apart(tmp_path):
    made_of = Coat()
    maps = [made_of.picture(tmp_path, f"{k}.png", busy(32, 32, 4, seed=k)) for k in range(4)]
    for k, extra in enumerate(({}, {}, {"alphaMode": "MASK"}, {"alphaMode": "MASK", "alphaCutoff": 0.25})):
        made_of.square(made_of.paint(f"m{k}", extra=extra, baseColorTexture=maps[k]), at=(k, 0, 0))
    knows = {"extensions": {"ACME_cloth": {"weaveTexture": {"index": 0}}}}
    made_of.square(made_of.paint("woven", extra=knows, baseColorTexture=maps[0]), at=(5, 0, 0))
    made_of.square(made_of.paint("glass", extra={"alphaMode": "BLEND"}, baseColorTexture=maps[1]), at=(6, 0, 0))
    made_of.save(tmp_path / "kinds.glb")
    result = make(tmp_path, "kinds.glb")
    said = notes(result.laid_out.gathered)
    assert "ACME_cloth reads maps of its own" in said["woven"] and "alone in how it is drawn: blended" in said["glass"]
    assert [group.name for group in result.laid_out.gathered.groups] == ["coats", "coats mask"]
    assert result.models["kinds.glb"].after.materials == 4
    assert result.sheets["coats_mask_base"].channels == ("R", "G", "B", "A")
    assert any("one cut-off" in line for line in result.warnings)
    # Alpha of one of the two is halved, which rounds it: of 200,000 pixels at edges of noise, some fall to the other side.
    assert likeness(tmp_path, result, "kinds.glb", side=256).outline < 60


def test_mirrored_halves_stay_together_and_a_tenth_brings_a_tenth(tmp_path):
    made_of = Coat()
    cloth = made_of.paint("cloth", baseColorTexture=made_of.picture(tmp_path, "cloth.png", busy(256, 256, 3)))
    made_of.square(cloth, uv=UV * 0.25)
    made_of.square(cloth, uv=np.stack([0.25 - UV[:, 0] * 0.25, UV[:, 1] * 0.25], axis=1), at=(1.5, 0, 0))
    felt = made_of.paint("felt", baseColorTexture=made_of.picture(tmp_path, "felt.png", busy(64, 64, 3, seed=2)))
    made_of.square(felt, at=(3, 0, 0), uv=UV + 10_000)
    made_of.save(tmp_path / "half.glb")
    result = make(tmp_path, "half.glb")
    rows = json_of(result)["islands"]
    assert [row["source"] for row in rows] == [[0, 0, 64, 64], [0, 0, 64, 64]]
    assert result.sheets["coats_base"].size == (256, 128)
    assert likeness(tmp_path, result, "half.glb", side=128).psnr > 45


def test_texels_go_where_they_are_wanted(tmp_path):
    coat(tmp_path, side=256)

    def scales(**settings):
        return {
            row["material"].split("/")[-1]: row["scale"]
            for row in json_of(make(tmp_path, "coat.glb", **settings))["islands"]
        }

    path = "coat.glb#materials/"
    assert set(scales(size=256).values()) == {1.0, 0.5, 0.25}
    kept = scales(
        size=1024, materials=(MaterialChoice(path + "felt", keep=True), MaterialChoice(path + "dyed", levels=-2.0))
    )
    assert kept["felt"] == 1 and kept["dyed"] == 0.25
    seen = scales(weight=Weight.SEEN, seen=(VisibleScale("cloth.png", 0.3), VisibleScale("felt.png", 0.0)))
    assert seen["cloth"] == seen["dyed"] == 0.5 and seen["felt"] == 1 / 64 and seen["brass"] == 1
    one_metre = scales(
        size=256, shrink=Shrink.FREE, floor=100.0, materials=(MaterialChoice(path + "dyed", levels=-3.0),)
    )
    assert all(256 * one_metre[name] >= 100 - 1e-6 for name in ("cloth", "felt", "dyed"))
    assert scales(ceiling=128.0)["cloth"] == 0.5


def test_a_model_never_comes_out_below_its_own_layout(tmp_path):
    made_of = Coat()
    picture = made_of.picture(tmp_path, "cloth.png", busy(256, 256, 3))
    cloth = made_of.paint("cloth", baseColorTexture=picture)
    # A frame and what lies in it: whole as they are, and hard to part.
    for k in range(4):
        made_of.square(cloth, uv=UV * [0.5, 0.5] + [0.5 * (k % 2), 0.5 * (k // 2)], at=(k, 0, 0))
    made_of.save(tmp_path / "own.glb")
    result = make(tmp_path, "own.glb", size=256)
    assert {row["scale"] for row in json_of(result)["islands"]} == {1.0}
    np.testing.assert_array_equal(result.sheets["coats_base"].pixels, read_picture(tmp_path / "cloth.png").pixels)


def test_gutters_hold_and_hidden_colours_do_not_bleed(tmp_path):
    made_of = Coat()
    for k, colour in enumerate(((255, 0, 0), (0, 255, 0), (0, 0, 255))):
        plain = Image.of(np.full((64, 64, 3), colour, np.uint8))
        made_of.square(
            made_of.paint(f"m{k}", baseColorTexture=made_of.picture(tmp_path, f"{k}.png", plain)), at=(k, 0, 0)
        )
    made_of.save(tmp_path / "flags.glb")
    result = make(tmp_path, "flags.glb", gutter=8)
    sheet = result.sheets["coats_base"].pixels
    boxes = [row["place"] for row in json_of(result)["islands"]]
    for k, box in enumerate(boxes):
        x, y, w, h = (round(v) for v in box)
        around = sheet[max(0, y - 4) : y + h + 4, max(0, x - 4) : x + w + 4]
        assert (around == np.eye(3, dtype=np.uint8)[k] * 255).all()
        for other in boxes[:k]:
            apart = max(x - other[0] - other[2], other[0] - x - w, y - other[1] - other[3], other[1] - y - h)
            assert apart >= 8
    assert not np.array_equal(sheet[0, 0], [0, 0, 0]), "what no island has is filled, too"


def test_one_atlas_comes_out_the_same_twice_and_pins_stay(tmp_path):
    coat(tmp_path)
    one, two = make(tmp_path, "coat.glb", size=64), make(tmp_path, "coat.glb", size=64)
    assert one.models["coat.glb"].glb() == two.models["coat.glb"].glb() and json_of(one) == json_of(two)
    for name in one.sheets:
        np.testing.assert_array_equal(one.sheets[name].pixels, two.sheets[name].pixels)
    pinned = make(tmp_path, "coat.glb", size=256, pins=(Pin(1, sheet=0, x=120, y=136),))
    assert json_of(pinned)["islands"][1]["place"] == [120, 136, 64, 64]
    with pytest.raises(Unsupported, match="its place has no room"):
        make(tmp_path, "coat.glb", size=256, pins=(Pin(1, sheet=0, x=0, y=0), Pin(0, sheet=0, x=8, y=8)))


def test_sheets_are_shared_out(tmp_path):
    coat(tmp_path, side=112)
    one = make(tmp_path, "coat.glb", size=128, sheets=3)
    assert {row["scale"] for row in json_of(one)["islands"]} == {1.0}
    assert sum(name.endswith("base") for name in one.sheets) == 3
    assert one.models["coat.glb"].after.materials == 3
    assert likeness(tmp_path, one, "coat.glb", side=256).psnr > 45


def broken(root, change, uv=UV):
    made_of = Coat()
    for k in range(2):
        picture = made_of.picture(root, f"{k}.png", busy(32, 32, 3, seed=k))
        made_of.square(made_of.paint(f"m{k}", baseColorTexture=picture), uv=uv if k else UV, at=(k, 0, 0))
    change(made_of)
    return made_of.save(root / "broken.glb")


@pytest.mark.parametrize(
    ("uv", "words"),
    [
        (UV * np.nan, "not finite"),
        (UV * 0 + 0.5, ""),
        (UV * 1e30, "it tiles"),
        (None, "has no UVs; they can be projected"),
    ],
)
def test_uvs_that_are_none_are_said(tmp_path, uv, words):
    broken(tmp_path, lambda _: None, uv=uv)
    gathered, _, _ = gather(tmp_path, "broken.glb")
    assert words in notes(gathered)["m1"] and (words == "") == (notes(gathered)["m1"] == "")
    if uv is None:
        result = make(tmp_path, "broken.glb", project=True)
        assert result.models["broken.glb"].after.materials == 1
    else:
        result = make(tmp_path, "broken.glb")
    assert likeness(tmp_path, result, "broken.glb", side=64).outline == 0


def test_other_faults_are_said_with_their_names(tmp_path):
    broken(tmp_path, lambda made: made.writer.json["images"][1].update(uri="gone.png"))
    gathered, _, _ = gather(tmp_path, "broken.glb")
    assert "gone.png" in notes(gathered)["m1"]
    with pytest.raises(FileError, match="no node called 'sleeve'"):
        gather(tmp_path, "broken.glb", objects=("sleeve",))
    broken(tmp_path, lambda made: [row.update(mode=1) for row in made.primitives])
    with pytest.raises(
        Unsupported, match="no material can go into an atlas: m0: mesh 0, primitive 0 draws points or lines"
    ):
        plan_of(tmp_path, "broken.glb")
    with pytest.raises(ValueError, match="is no model"):
        Atlas("x", ("picture.png",))


def test_twenty_thousand_islands_and_a_cancel_within_a_second(tmp_path):
    rng = np.random.default_rng(5)
    count = 20_000
    low = rng.uniform(0, 0.99, (count, 1, 2))
    uv = (low + rng.uniform(0, 0.006, (count, 3, 2))).reshape(-1, 2)
    points = np.concatenate([uv * 4, np.arange(3 * count)[:, None] % 7], axis=1).astype(np.float32)
    made_of = Coat()
    cloth = made_of.paint("cloth", baseColorTexture=made_of.picture(tmp_path, "cloth.png", noise(512, 512, 3)))
    felt = made_of.paint("felt", baseColorTexture=made_of.picture(tmp_path, "felt.png", noise(512, 512, 3, seed=1)))
    made_of.add(cloth, points, uv, np.arange(3 * count, dtype=np.uint32))
    made_of.add(felt, points + np.float32([5, 0, 0]), uv, np.arange(3 * count, dtype=np.uint32))
    made_of.save(tmp_path / "dust.glb")
    gathered, settings, _ = gather(tmp_path, "dust.glb", size=4096)
    steps, longest = 0, 0.0
    task, last = lay_out(gathered, settings), time.monotonic()
    for _ in task:
        now = time.monotonic()
        longest, last, steps = max(longest, now - last), now, steps + 1
        if steps == 6:
            task.close()
            break
    assert steps == 6 and longest < 2


def test_an_obj_goes_in_and_comes_out_as_gltf(tmp_path):
    write_png(tmp_path / "cloth.png", busy(64, 64, 3))
    write_png(tmp_path / "felt.png", busy(64, 64, 3, seed=5))
    (tmp_path / "coat.mtl").write_text(
        "newmtl cloth\nmap_Kd cloth.png\nnewmtl felt\nmap_Kd felt.png\nmap_Pr rough.png\n"
    )
    faces = "usemtl cloth\nf 1/1 2/2 3/3 4/4\nusemtl felt\nf 5/1 6/2 7/3 8/4\n"
    corners = "".join(f"v {x + dx} {y} 0\n" for dx in (0, 2) for x, y in ((0, 0), (1, 0), (1, 1), (0, 1)))
    uvs = "vt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\n"
    (tmp_path / "coat.obj").write_text(f"mtllib coat.mtl\n{corners}{uvs}{faces}")
    result = make(tmp_path, "coat.obj", rotate=Rotation.NONE)
    again = result.models["coat.obj"]
    assert again.after.materials == 1 and any("map_pr has no slot" in line for line in result.warnings)
    assert likeness(tmp_path, result, "coat.obj", side=128).psnr > 45


def test_tangents_and_morphs_stay_as_stored(tmp_path):
    """Vertices are copied as they are stored: integers stay the same integers."""
    made_of = Coat()
    for k in range(2):
        row = made_of.square(
            made_of.paint(f"m{k}", baseColorTexture=made_of.picture(tmp_path, f"{k}.png", busy(32, 32, 3, seed=k))),
            at=(k, 0, 0),
        )
        steps = np.concatenate([(SQUARE * 127 * (k + 1) / 2).astype(np.int8), np.zeros((4, 1), np.int8)], axis=1)
        place = made_of.writer.accessor(steps, indices=False)
        made_of.writer.json["accessors"][place] |= {
            "type": "VEC3",
            "normalized": True,
            "min": [0, 0, 0],
            "max": [1, 1, 0],
        }
        made_of.writer.json["bufferViews"][-1]["byteStride"] = 4
        row["attributes"]["POSITION"] = place
    made_of.writer.json["extensionsUsed"] = made_of.writer.json["extensionsRequired"] = ["KHR_mesh_quantization"]
    made_of.save(tmp_path / "steps.glb")
    result = make(tmp_path, "steps.glb")
    raw = result.models["steps.glb"].raw
    (row,) = raw["meshes"][0]["primitives"]
    accessor = raw["accessors"][row["attributes"]["POSITION"]]
    assert accessor["componentType"] == 5120 and accessor["normalized"] and accessor["max"] == [127, 127, 0]
    document = parse_gltf(result.models["steps.glb"].glb(), opened(tmp_path, "steps.glb")[0].document.place)
    assert len(model_of(document, whole=True).meshes[0].primitives[0].triangles) == len(SQUARE_TRIANGLES) * 2 // 3


def test_in_a_job_it_stands_in_place_of_its_sources_and_ships(tmp_path):
    art = tmp_path / "art"
    art.mkdir()
    coat(art)
    write_png(art / "felt_copy.png", read_picture(art / "felt.png"))
    lone = Coat()
    lone.square(lone.paint("sign", baseColorTexture=lone.writer.image("felt.png")))
    lone.save(art / "sign.glb")
    spec = BuildSpec((Atlas("coat_atlas", ("coat.glb",)),))
    tree = finish(survey_tree(art, ScanSettings(), spec, SurveyCache(tmp_path / "cache")))
    inventory = tree.inventory
    assert not inventory.unmade
    # The felt stays for the sign that reads it, too; the cloth is gone into the atlas.
    assert {row.path for row in inventory.textures} == {
        "coat_atlas_base",
        "coat_atlas_orm",
        "felt.png",
        "felt_copy.png",
    }
    assert inventory.replaced["cloth.png"] == "coat_atlas_base"
    assert {model.path for model in inventory.ownership.models} == {"coat_atlas.glb", "sign.glb"}
    roles = {row.path: guess.role for row, guess in zip(inventory.textures, inventory.roles, strict=True)}
    assert (roles["coat_atlas_base"], roles["coat_atlas_orm"]) == (Role.BASE_COLOUR, Role.SURFACE)
    plan = resolve(inventory, target_named("pocket"), ())
    out = tmp_path / "shipped"
    finish(ship(plan, out))
    names = {path.name for path in out.rglob("*") if path.is_file()}
    assert {"coat_atlas.glb", "coat_atlas_base.ktx2", "coat_atlas_orm.ktx2", "felt.ktx2", "sign.glb"} <= names
    assert "coat.glb" not in names and "cloth.ktx2" not in names and "coat_atlas.atlas.json" in names
    raw = parse_gltf((out / "coat_atlas.glb").read_bytes(), ReferenceFolder(out, "coat_atlas.glb")).raw
    assert {row["uri"] for row in raw["images"]} == {"coat_atlas_base.ktx2", "coat_atlas_orm.ktx2"}
    assert len(raw["meshes"][0]["primitives"]) == 1


def test_in_a_job_it_is_made_anew_when_a_source_changes_and_says_what_it_cannot(tmp_path):
    coat(tmp_path)
    cache, spec = SurveyCache(tmp_path / "cache"), BuildSpec((Atlas("coat_atlas", ("coat.glb",)),))

    def content():
        inventory = finish(survey_tree(tmp_path, ScanSettings(), spec, cache)).inventory
        return {row.path: row.content for row in inventory.textures if row.path.startswith("coat_atlas")}

    before = content()
    assert before == content() and len(before) == 2
    write_png(tmp_path / "cloth.png", busy(64, 64, 3, seed=44))
    assert before != content()
    spec = BuildSpec((Atlas("coat_atlas", ("gone.glb",)),))
    (unmade,) = finish(survey_tree(tmp_path, ScanSettings(), spec, cache)).inventory.unmade
    assert unmade.path == "coat_atlas" and "gone.glb" in unmade.error


def test_tangents_of_morph_targets_turn_with_their_islands(tmp_path):
    made_of = Coat()
    move = np.tile(np.array([-0.5, 0.25, 0], np.float32), (4, 1))
    for k in range(2):
        picture = made_of.picture(tmp_path, f"{k}.png", busy(32, 32, 3, seed=k))
        tangents = np.tile(np.array([1, 0, 0, 1], np.float32), (4, 1))
        row = made_of.square(made_of.paint(f"m{k}", baseColorTexture=picture), at=(2 * k, 0, 0), TANGENT=tangents)
        row["targets"] = [{"TANGENT": made_of.writer.accessor(move, indices=False)}]
    made_of.save(tmp_path / "bent.glb")
    result = make(tmp_path, "bent.glb", pins=(Pin(0, sheet=0, x=8, y=8, turn=1),))
    document = parse_gltf(result.models["bent.glb"].glb(), opened(tmp_path, "bent.glb")[0].document.place)
    (row,) = document.raw["meshes"][0]["primitives"]
    tangents = document.stored(row["attributes"]["TANGENT"])
    moves = document.stored(row["targets"][0]["TANGENT"])
    assert np.abs(tangents[:, 0]).min() < 0.01 < np.abs(tangents[:, 0]).max()
    for (x, y, _, _), moved in zip(tangents, moves, strict=True):
        # The same turn about the normal that took (1, 0) to the new tangent.
        np.testing.assert_allclose(moved[:2], [-0.5 * x - 0.25 * y, -0.5 * y + 0.25 * x], atol=1e-6)


def coats_with(root, **maps):
    """Two materials with a clearcoat map each, and one without."""
    made_of = Coat()
    for name, seed in (("lacquer", 3), ("varnish", 4)):
        base = made_of.picture(root, f"{name}.png", smooth(64, 64, 3, seed=seed))
        coat = made_of.picture(root, f"{name}_coat.png", busy(64, 64, 3, seed=seed + 9))
        extra = {"KHR_materials_clearcoat": {"clearcoatFactor": 0.5, "clearcoatTexture": {"index": coat}, **maps}}
        made_of.square(made_of.paint(name, extra={"extensions": extra}, baseColorTexture=base), at=(seed * 1.1, 0, 0))
    for name, seed in (("bare", 5), ("raw", 6)):
        base = made_of.picture(root, f"{name}.png", smooth(64, 64, 3, seed=seed))
        made_of.square(made_of.paint(name, baseColorTexture=base), at=(seed * 1.1, 0, 0))
    made_of.save(root / "coats.glb")


def test_maps_of_extensions_go_by_name_where_every_material_has_them(tmp_path):
    coats_with(tmp_path)
    result = make(tmp_path, "coats.glb")
    assert {row["map"] for row in sheet_rows(result)} == {"base", "clearcoat"}
    groups = {note.material.name: note.group for note in result.laid_out.gathered.notes}
    assert groups["lacquer"] == groups["varnish"] != groups["bare"] == groups["raw"]
    (document,) = (row.raw for row in result.models.values())
    row = next(row for row in document["materials"] if "extensions" in row)
    coat = row["extensions"]["KHR_materials_clearcoat"]
    assert coat["clearcoatFactor"] == 0.5
    image = document["images"][document["textures"][coat["clearcoatTexture"]["index"]]["source"]]
    assert image["name"].endswith("_clearcoat")
    # Moved by whole texels, as the base colour is.
    assert np.array_equal(
        texels(result, "varnish", "clearcoat")(64, 64), read_picture(tmp_path / "varnish_coat.png").pixels
    )


def test_directions_along_the_surface_and_unknown_ways_are_left_out(tmp_path):
    made_of = Coat()
    base = made_of.picture(tmp_path, "a.png", smooth(32, 32, 3))
    rows = {"brushed": {"KHR_materials_anisotropy": {"anisotropyTexture": {"index": base}}}}
    rows["odd"] = {"X_layers": {"layers": [{"index": base}]}}
    for place, (name, extension) in enumerate(rows.items()):
        made_of.square(made_of.paint(name, extra={"extensions": extension}, baseColorTexture=base), at=(place, 0, 0))
    made_of.save(tmp_path / "odd.glb")
    found = notes(gather(tmp_path, "odd.glb")[0])
    assert "anisotropyTexture" in found["brushed"] and "does not know" in found["odd"]


@pytest.mark.parametrize("use", list(FactorUse))
def test_factors_are_baked_kept_or_keep_materials_apart(tmp_path, use):
    coat(tmp_path)
    result = make(tmp_path, "coat.glb", factors=use)
    (document,) = (row.raw for row in result.models.values())
    names = [row["name"] for row in document["materials"]]
    if use is FactorUse.APART:
        # Two of four have their factors, and maps for all of them, in common.
        assert {"dyed", "brass"} < set(names)
        assert "metallicRoughnessTexture" not in document["materials"][0]["pbrMetallicRoughness"]
    else:
        assert len(result.laid_out.gathered.groups) == 1 and len(names) == 1
    if use is FactorUse.BAKED:
        factors = document["materials"][0]["pbrMetallicRoughness"]
        assert "baseColorFactor" not in factors
        assert (factors["metallicFactor"], factors["roughnessFactor"]) == (1, 1)
    assert likeness(tmp_path, result, "coat.glb", count=4).psnr > 45


def test_the_smallest_sheet_that_keeps_enough(tmp_path):
    coat(tmp_path, side=128)
    whole = plan_of(tmp_path, "coat.glb").groups[0].layout
    sizes = []
    for share in (0.9, 0.5, 0.2, 0.05):
        found = plan_of(tmp_path, "coat.glb", share_kept=share, shrink=Shrink.FREE).groups[0].layout
        sizes.append(found.width * found.height)
        assert found.scales.min() >= np.sqrt(share) * 0.9
    assert whole.width * whole.height >= sizes[0] >= sizes[1] > sizes[2] > sizes[3] >= 32 * 32
    small = plan_of(tmp_path, "coat.glb", longest=64).groups[0].layout
    assert max(small.width, small.height) == 64
