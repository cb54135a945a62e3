"""`oak-trim imposter` on files: what it writes, what it says, and that sources stay."""

import json

import pytest

from tests.cli.test_commands import run
from tests.core.makers.test_imposter import box, sign
from tests.kit import validator


def test_cards_and_clouds_are_written_with_their_likeness(tmp_path):
    box(tmp_path)
    before = (tmp_path / "box.glb").read_bytes()
    out = tmp_path / "out"
    rows = json.loads(
        run("imposter", tmp_path / "box.glb", "--kind", "cloud", "--cards", "6", "--size", "128", "--maps", "base,normal,orm,depth",
            "--as", "json", "--out", out)
    )  # fmt: skip
    assert rows[0]["before"] == {"triangles": 12, "draws": 6} and rows[0]["after"]["cards"] == 6
    assert [row["pixels"] for row in rows[0]["likeness"]["rows"]] == [256, 128, 64, 32, 16]
    written = json.loads((out / "box_imposter.imposter.json").read_text())
    assert written["likeness"] == rows[0]["likeness"] and len(written["cards"]) == 6
    assert {path.name for path in out.iterdir()} == {
        "box_imposter.glb", "box_imposter.imposter.json", "box_imposter_depth.png",
    }  # fmt: skip
    assert (tmp_path / "box.glb").read_bytes() == before
    if validator.is_there():
        assert validator.errors(out / "box_imposter.glb") == []


def test_what_it_prints_and_without_a_look(tmp_path):
    sign(tmp_path)
    said = run(
        "imposter",
        tmp_path / "sign.glb",
        "--kind",
        "cards",
        "--axes",
        "z",
        "--size",
        "64",
        "--switch",
        "none",
        "--out",
        tmp_path,
    )
    assert "2 triangles in 1 draws → 2 in 1; 1 cards on" in said and "overlap" not in said
    said = run(
        "imposter",
        tmp_path / "sign.glb",
        "--kind",
        "cards",
        "--axes",
        "z",
        "--size",
        "64",
        "--switch",
        "4000",
        "--out",
        tmp_path,
    )
    assert "its own" in said and "advised" in said


@pytest.mark.parametrize(
    ("given", "words"),
    [
        (("--axes", "w"), "are no axes"),
        (("--axes", "x"), "edge-on"),
        (("--node", "door"), "no node called 'door'"),
        (("--switch", "soon"), "is not auto, none"),
        (("--maps", "base,fur"), "are not some of base"),
    ],
)
def test_what_cannot_be_done_is_said(tmp_path, given, words):
    sign(tmp_path)
    said = run("imposter", tmp_path / "sign.glb", "--kind", "cards", *given, "--out", tmp_path / "out", status=2)
    assert words in said and not (tmp_path / "out").exists()


def test_a_chain_is_written_beside_with_distances_for_the_screen(tmp_path):
    box(tmp_path)
    given = ("imposter", tmp_path / "box.glb", "--kind", "cards", "--size", "64", "--switch", "54", "--vanish", "5.4")
    said = run(*given, "--chain", "--out", tmp_path / "out")
    assert (
        "box_imposter_LOD1: 4 triangles, down to 0.005 of the screen's height" in said
        or "triangles, down to 0.005" in said
    )
    written = json.loads((tmp_path / "out" / "box_imposter.imposter.json").read_text())
    levels = written["chain"]["levels"]
    assert [level["pixels"] for level in levels] == [54.0, 5.4] and levels[0]["share"] == 0.05
    assert levels[0]["distance"] > 5 and levels[1]["distance"] > 9 * levels[0]["distance"]
    assert written["chain"]["form"] == "levels"
    assert {"box_imposter.glb", "box_imposter_levels.glb"} < {path.name for path in (tmp_path / "out").iterdir()}
    rows = json.loads(run(*given, "--chain", "named", "--target", "visor", "--as", "json", "--out", tmp_path / "named"))
    assert rows[0]["levels"][0]["name"].endswith("_LOD0")


@pytest.mark.slow
def test_frames_come_with_their_sheets_shaders_and_what_each_variant_costs(tmp_path):
    box(tmp_path)
    out = tmp_path / "out"
    rows = json.loads(
        run("imposter", tmp_path / "box.glb", "--kind", "dome", "--frames", "6", "--frame-size", "32", "--as", "json", "--out", out)
    )  # fmt: skip
    assert {path.name for path in out.iterdir()} == {
        "box_imposter.glb", "box_imposter.imposter.json", "box_imposter.glsl", "box_imposter.es.glsl", "box_imposter_base.png",
        "box_imposter_normal.png", "box_imposter_depth.png",
    }  # fmt: skip
    written = json.loads((out / "box_imposter.imposter.json").read_text())
    frames = written["frames"]
    assert (frames["columns"], frames["rows"], frames["frame_size"]) == (6, 6, 32) and len(frames["directions"]) == 36
    assert written["width"] == 192 and written["maps"] == ["base", "normal", "depth"]
    ways = {(way["frames"], way["steps"]): way for way in rows[0]["variants"]}
    assert ways[3, "2"]["reads"] > ways[3, "0"]["reads"] > ways[1, "0"]["reads"]
    assert ways[3, "2"]["overlap"] > ways[1, "0"]["overlap"] and rows[0]["after"]["frames"] == 36
    assert (out / "box_imposter.glsl").read_text().startswith("#version 330")
    if validator.is_there():
        assert validator.errors(out / "box_imposter.glb") == []
