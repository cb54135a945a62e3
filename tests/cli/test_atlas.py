"""`oak-trim atlas` on files: what it writes, what it says, and that sources stay."""

import json
import subprocess

import pytest

from oaktrim.core.files.pictures import write_png
from tests.cli.test_commands import COMMAND, decoded, run
from tests.kit import validator
from tests.kit.atlases import Coat, coat
from tests.kit.pictures import busy


@pytest.fixture
def art(tmp_path):
    (tmp_path / "art").mkdir()
    coat(tmp_path / "art")
    return tmp_path / "art"


def test_one_model_becomes_one_file(art, tmp_path):
    before = {path.name: path.read_bytes() for path in art.iterdir()}
    said = run("atlas", art / "coat.glb", "--prove", "--out", tmp_path / "out")
    assert {path.name for path in (tmp_path / "out").iterdir()} == {"coat_atlas.glb", "atlas.json"}
    assert {path.name: path.read_bytes() for path in art.iterdir()} == before
    rows = dict(
        (line.split()[0], line.split()[-2:]) for line in said.splitlines() if line.startswith(("draws", "materials"))
    )
    assert rows == {"draws": ["4", "1"], "materials": ["4", "1"]}
    assert "from 12 views: outline differs in 0 pixels, 5" in said
    if validator.is_there():
        assert validator.errors(tmp_path / "out" / "coat_atlas.glb") == []
    written = json.loads((tmp_path / "out" / "atlas.json").read_text())
    assert written["schema"] == "oak-trim.atlas/1" and len(written["islands"]) == 4


def test_loose_files_and_json(art, tmp_path):
    out = tmp_path / "out"
    said = json.loads(
        run("atlas", art / "coat.glb", "--loose", "--size", "128", "--keep", "felt", "--as", "json", "--out", out)
    )
    assert {path.name for path in out.iterdir()} == {
        "coat_atlas.gltf", "coat_atlas.bin", "coat_atlas_base.png", "coat_atlas_orm.png", "atlas.json",
    }  # fmt: skip
    assert said["before"]["draws"] == 4 and said["after"]["draws"] == 1 and said["after"]["plain_bytes"] > 0
    assert decoded(out / "coat_atlas_base.png").shape[:2] == (said["sheets"][0]["height"], said["sheets"][0]["width"])
    islands = {row["material"].split("/")[-1]: row for row in json.loads((out / "atlas.json").read_text())["islands"]}
    assert islands["felt"]["levels_lost"] == 0 and islands["cloth"]["levels_lost"] >= 1
    if validator.is_there():
        assert validator.errors(out / "coat_atlas.gltf") == []


def test_models_share_sheets_and_bring_what_they_keep(art, tmp_path):
    (art / "caps").mkdir()
    write_png(art / "glass.png", busy(32, 32, 4))
    cap = Coat()
    cap.square(cap.paint("glass", extra={"alphaMode": "BLEND"}, baseColorTexture=cap.writer.image("../glass.png")))
    cap.square(cap.paint("felt", baseColorTexture=cap.writer.image("../felt.png")), at=(1, 0, 0))
    cap.save(art / "caps" / "cap.glb")
    out = tmp_path / "out"
    said = run("atlas", art / "coat.glb", art / "caps" / "cap.glb", "--name", "all", "--out", out)
    assert {path.name for path in out.iterdir()} == {
        "all_coat.glb",
        "all_cap.glb",
        "all_base.png",
        "all_orm.png",
        "atlas.json",
    }
    assert "felt is the same as felt" in said and "left as it is: glass: alone in how it is drawn: blended" in said
    if validator.is_there():
        assert validator.errors(out / "all_cap.glb") == [] and validator.errors(out / "all_coat.glb") == []
    assert (
        b"glass.png" not in (out / "all_cap.glb").read_bytes()[:4000] and len((out / "all_cap.glb").read_bytes()) > 3000
    )


@pytest.mark.parametrize(
    ("given", "words"),
    [
        (("--keep", "silk"), "no material is met by 'silk'"),
        (("--object", "sleeve"), "no node called 'sleeve'"),
        (("--size", "16", "--keep", "*"), "has no room on 1 of 16x16"),
        (("--leave", "*"), "no material can go into an atlas: cloth: left out by hand"),
    ],
)
def test_what_cannot_be_done_is_said(art, tmp_path, given, words):
    assert words in run("atlas", art / "coat.glb", *given, "--out", tmp_path / "out", status=2)
    assert not (tmp_path / "out").exists()


def test_sources_are_never_written_over_and_damage_is_named(art):
    (art / "felt_atlas_base.png").write_bytes((art / "felt.png").read_bytes())
    said = run("atlas", art / "coat.glb", "--name", "cloth", "--loose", "--out", art, status=0)
    assert "cloth_base.png" in said
    (art / "coat_base.png").write_bytes(b"")
    broken = art / "broken.glb"
    broken.write_bytes((art / "coat.glb").read_bytes()[:300])
    assert "broken.glb" in run("atlas", broken, "--out", art / "x", status=2)
    again = Coat()
    again.square(again.paint("a", baseColorTexture=again.writer.image("x_base.png")))
    again.square(again.paint("b", baseColorTexture=again.writer.image("felt.png")), at=(1, 0, 0))
    write_png(art / "x_base.png", busy(32, 32, 3))
    again.save(art / "x.glb")
    before = (art / "x_base.png").read_bytes()
    said = run("atlas", art / "x.glb", "--name", "x", "--loose", "--out", art, status=2)
    assert "sources are never written" in said and (art / "x_base.png").read_bytes() == before


@pytest.mark.slow
def test_a_job_s_sightlines_say_what_texels_go_to(art, tmp_path):
    job, out = tmp_path / "coat.oak", tmp_path / "out"
    run("job", "new", art, "--out", job)
    # So far away that little of it is seen.
    run("station", job, "add", "far", "--eye", "2,0.5,60", "--target", "2,0.5,0", "--scene", "coat.glb")
    given = ("atlas", art / "coat.glb", "--weight", "seen", "--as", "json", "--out", out)
    far = json.loads(run(*given, "--job", job, "--target", "lounge"))
    near = json.loads(run("atlas", art / "coat.glb", "--as", "json", "--enough", "0.9", "--out", tmp_path / "near"))
    assert far["after"]["plain_bytes"] < near["after"]["plain_bytes"] / 3
    done = subprocess.run([COMMAND, *map(str, given)], capture_output=True, text=True, check=True)
    assert "without --job: weighed by area" in done.stderr
