"""Makers on the command line: packs, patches and glyph sheets of single files and folders, as other programs read them."""

import json

import numpy as np
import pytest
from PIL import Image as PillowImage

from oaktrim.demo.signface import sign_font
from tests.cli.test_commands import decoded, run
from tests.kit.pictures import busy, noise
from tests.kit.trees import put

ORM = "occlusion-roughness-metalness"


@pytest.fixture
def art(tmp_path):
    root = tmp_path / "art"
    put(root, "ao.png", busy(32, 16, 1, seed=1).pixels)
    put(root, "gloss.png", noise(32, 16, 3, seed=2).pixels)
    return root


def test_pack_and_unpack_exactly(art, tmp_path):
    out = tmp_path / "made" / "orm.png"
    slots = ("occlusion=" + str(art / "ao.png"), f"roughness={art / 'gloss.png'}:R:invert", "metalness=flat:0")
    said = run("pack", "--layout", ORM, *(part for slot in slots for part in ("--slot", slot)), "--out", out)
    assert "32x16, RGB, 8 bits" in said and "gloss.png R, inverted" in said
    ao, gloss = decoded(art / "ao.png"), decoded(art / "gloss.png")
    np.testing.assert_array_equal(decoded(out), np.stack([ao, 255 - gloss[..., 0], 0 * ao], axis=2))
    run("unpack", out, "--layout", ORM, "--out", tmp_path / "parts")
    np.testing.assert_array_equal(decoded(tmp_path / "parts" / "orm_roughness.png"), 255 - gloss[..., 0])
    container = tmp_path / "orm.ktx2"
    run("pack", "--layout", ORM, "--slot", slots[0], "--out", container)
    run("decode", container, "--out", tmp_path / "back.png")
    np.testing.assert_array_equal(decoded(tmp_path / "back.png")[..., 0], ao)
    assert "occlusion" in run("layouts") and json.loads(run("layouts", "--as", "json"))[0]["id"] == ORM


@pytest.mark.parametrize(
    ("slot", "words"),
    [
        ("occlusion=gone.png", "gone.png"),
        ("gloss=flat:1", "no slot 'gloss'; it has occlusion, roughness, metalness"),
        ("occlusion=flat:bright", "not a value"),
        ("occlusion=ao.png:A", "ao.png: has no channel A; it has L"),
        ("occlusion", "is not NAME=FILE"),
    ],
)
def test_what_is_wrong_with_a_slot_is_said(art, tmp_path, monkeypatch, slot, words):
    monkeypatch.chdir(art)
    said = run("pack", "--layout", ORM, "--slot", slot, "--out", tmp_path / "x.png", status=2)
    assert words in said and not (tmp_path / "x.png").exists()


def test_a_source_is_never_written_over(art, tmp_path):
    before = (art / "ao.png").read_bytes()
    said = run("pack", "--layout", ORM, "--slot", f"occlusion={art / 'ao.png'}", "--out", art / "ao.png", status=2)
    assert "sources are never written" in said and (art / "ao.png").read_bytes() == before


def test_a_folder_in_one_go(tmp_path):
    root, out = tmp_path / "art", tmp_path / "out"
    for number, name in enumerate(("a_ao", "a_rough", "a_metal", "b_ao", "b_gloss")):
        put(root, f"set/{name}.png", busy(16, 16, 1, seed=number).pixels)
    said = run("pack", root, "--layout", ORM, "--batch", "auto", "--out", out, status=1)
    assert "2 packs of 5 maps" in said
    packed = decoded(out / "set" / "a_orm.png")
    np.testing.assert_array_equal(packed[..., 2], decoded(root / "set" / "a_metal.png"))
    np.testing.assert_array_equal(
        decoded(out / "set" / "b_orm.png")[..., 1], 255 - decoded(root / "set" / "b_gloss.png")
    )
    own = ("--batch", "occlusion={name}_ao", "--batch", "roughness={name}_gloss")
    run("pack", root, "--layout", ORM, *own, "--out", tmp_path / "own", status=1)
    assert [path.name for path in (tmp_path / "own").rglob("*.png")] == ["b_orm.png"]


def test_patches_come_back_to_the_pixel(tmp_path):
    overlay = np.zeros((100, 120, 4), np.uint8)
    overlay[30:50, 70:90] = noise(20, 20, 4).pixels | 64
    overlay[80:86, 10:16] = 255
    path = put(tmp_path / "art", "sign.png", overlay)
    run("patch", path, "--snap", "pow2", "--gutter", "2", "--out", tmp_path / "one")
    place = json.loads((tmp_path / "one" / "sign_patch.json").read_text())["from_top_left"]["pixels"]
    patch = decoded(tmp_path / "one" / "sign_patch.png")
    assert patch.shape == (64, 128, 4)
    back = np.zeros((200, 300, 4), np.uint8)
    back[50 + place["y"] :, 50 + place["x"] :][:64, :128] = patch
    np.testing.assert_array_equal(back[50:150, 50:170], overlay)
    said = run("patch", path, "--split", "4", "--snap", "blocks", "--gutter", "0", "--out", tmp_path / "two")
    assert said.count("sign_") >= 2
    together = np.zeros((100, 120, 4), np.uint8)
    for island in sorted((tmp_path / "two").glob("*.png")):
        place = json.loads(island.with_suffix(".json").read_text())["from_top_left"]["pixels"]
        pixels = decoded(island)
        together[place["y"] :, place["x"] :][: pixels.shape[0], : pixels.shape[1]] |= pixels
    assert len(list((tmp_path / "two").glob("*.png"))) == 2
    np.testing.assert_array_equal(together, overlay)
    empty = put(tmp_path / "art", "empty.png", np.zeros((8, 8, 4), np.uint8))
    assert "empty everywhere" in run("patch", empty, "--out", tmp_path / "three", status=2)


def test_overlays_of_one_base_share_a_rectangle(tmp_path):
    for name, x in (("a", 8), ("b", 40)):
        overlay = np.full((64, 64, 3), (0, 255, 0), np.uint8)
        overlay[10:20, x : x + 10] = (200, 30, 60)
        put(tmp_path / "art", f"{name}.png", overlay)
    run("patch", tmp_path / "art", "--shared", "--snap", "none", "--gutter", "0", "--out", tmp_path / "out")
    shapes = {decoded(path).shape for path in (tmp_path / "out").glob("*.png")}
    assert shapes == {(10, 42, 3)}


@pytest.mark.slow
def test_a_job_with_makers_is_shown_surveyed_and_shipped(tmp_path):
    root, file = tmp_path / "art", tmp_path / "gate.oak"
    for number, name in enumerate(("gate_ao", "gate_rough")):
        put(root, f"{name}.png", busy(16, 16, 1, seed=number).pixels)
    lanes = [{"feeds": [{"source": f"gate_{name}.png"}]} for name in ("ao", "rough")]
    run("job", "new", root, "--out", file, "--target", "lounge")
    job = json.loads(file.read_text())
    job["makers"] = [{"kind": "pack", "name": "gate_orm", "layout": ORM, "lanes": [*lanes, {"fill": 0.0}, {}]}]
    file.write_text(json.dumps(job))
    assert "pack: gate_orm, of gate_ao.png, gate_rough.png" in run("job", "show", file)
    survey = json.loads(run("survey", file, "--as", "json"))
    assert survey["made"] == [{"path": "gate_orm", "kind": "pack", "inputs": ["gate_ao.png", "gate_rough.png"]}]
    run("ship", file, "--target", "lounge", "--out", tmp_path / "out")
    run("decode", tmp_path / "out" / "gate_orm.dds", "--out", tmp_path / "back.png")
    np.testing.assert_array_equal(decoded(tmp_path / "back.png")[..., 1], decoded(root / "gate_rough.png"))
    (root / "gate_ao.png").unlink()
    assert "gate_ao.png: is not there" in run("ship", file, "--target", "lounge", "--out", tmp_path / "out", status=2)


def test_glyphs_with_metrics_and_what_is_missing(tmp_path):
    font, text = tmp_path / "signs.ttf", tmp_path / "text.txt"
    font.write_bytes(sign_font())
    text.write_text("FERRY 06:40\nQUAY", encoding="utf-8")
    said = run("glyphs", font, "--size", "32", "--text", text, "--out", tmp_path / "out")
    assert "covered" in said
    metrics = json.loads((tmp_path / "out" / "signs_32_glyphs.json").read_text())
    with PillowImage.open(tmp_path / "out" / "signs_32_glyphs.png") as sheet:
        assert sheet.mode == "RGBA" and sheet.size == (metrics["width"], metrics["height"])
    assert {row["character"] for row in metrics["glyphs"]} == set("FERRY 06:40QUAY")
    assert "vec4 page" in (tmp_path / "out" / "signs_32_glyphs.glsl").read_text()
    run("glyphs", font, "--block", "basic-latin", "--out", tmp_path / "out", status=1)
    said = run("glyphs", font, "--characters", "A", "--spread", "nan", "--out", tmp_path / "out", status=2)
    assert "a spread is 0 to 64 pixels, not nan" in said
    text.write_bytes(b"\xff\xfe\x00")
    assert "is not UTF-8 text" in run("glyphs", font, "--text", text, "--out", tmp_path / "out", status=2)
    assert "no TTF" in run("glyphs", text, "--characters", "A", "--out", tmp_path / "out", status=2).replace(
        "not a", "no"
    )
