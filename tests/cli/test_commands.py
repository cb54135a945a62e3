"""The command as a build machine runs it: output, files and exit status."""

import csv
import io
import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from PIL import Image as PillowImage

from oaktrim.core.job.document import new_job, save_job
from oaktrim.core.plan.cuts import Cap, Cut
from tests.kit.pictures import psnr8
from tests.kit.trees import put

COMMAND = Path(sys.executable).parent / "oak-trim"


def run(*arguments, status=0, **settings):
    """Run the installed command and return what it printed."""
    done = subprocess.run([COMMAND, *map(str, arguments)], capture_output=True, text=True, check=False, **settings)
    assert done.returncode == status, done.stdout + done.stderr
    return done.stdout if status == 0 or done.stdout else done.stderr


def decoded(path):
    """A picture as Pillow reads it."""
    with PillowImage.open(path) as picture:
        return np.asarray(picture)


@pytest.fixture
def art(tmp_path):
    root = tmp_path / "art"
    put(root, "wall_base.png", size=(128, 64), channels=4)
    put(root, "odd_n.png", size=(100, 64))
    (root / "torn.png").write_bytes(b"\x89PNG\r\n\x1a\n12")
    return root


def test_survey_as_json(art):
    got = json.loads(run("survey", art, "--as", "json"))
    assert got["schema"] == "oak-trim.survey/1"
    assert got["root"] == str(art)
    assert got["counts"] == {"files": 3, "textures": 2, "unreadable": 1, "models": 0, "audio": 0, "findings": 3}
    assert [t["id"] for t in got["targets"]] == ["lounge", "pocket", "visor"]
    lines = {limit["line"]: limit for limit in got["targets"][1]["limits"]}
    memory = 100 * 64 * 4 + 43692  # no levels, for no power of two; 128x64 with its levels
    assert lines["memory"] == {
        "line": "memory", "bytes": memory, "limit": 160 << 20, "over": False, "estimated": False,
    }  # fmt: skip
    assert lines["longest-side"]["value"] == 128
    wall = next(t for t in got["textures"] if t["path"] == "wall_base.png")
    assert {key: wall[key] for key in ("width", "height", "channels", "bit_depth", "role")} == {
        "width": 128, "height": 64, "channels": 4, "bit_depth": 8, "role": "base-colour",
    }  # fmt: skip
    assert wall["memory"] == {"lounge": 43692, "pocket": 43692, "visor": 43692}
    assert wall["ships_at"]["pocket"] == [128, 64, 8, "rgba8"]
    assert wall["findings"] == []
    odd = next(t for t in got["textures"] if t["path"] == "odd_n.png")
    assert odd["ships_at"] == {
        "lounge": [100, 64, 7, "rgba8"],
        "pocket": [100, 64, 1, "rgba8"],
        "visor": [128, 64, 8, "rgba8"],
    }
    assert odd["findings"] == ["normal-length", "not-power-of-two"]
    assert {"code", "severity", "path", "message", "bytes"} <= set(got["findings"][0])
    assert got["unreadable"][0]["path"] == "torn.png"


def test_survey_as_table_and_csv(art):
    text = run("survey", art, "--target", "pocket")
    for words in ("2 textures in 3 files, 1 unreadable", "texture memory", "to spare", "not-power-of-two", "torn.png"):
        assert words in text
    rows = list(csv.DictReader(io.StringIO(run("survey", art, "--as", "csv", "--target", "visor"))))
    assert [row["path"] for row in rows] == ["odd_n.png", "wall_base.png"]
    assert rows[0]["visor_ships_at"] == "128x64"


def test_exit_status_of_survey(art, tmp_path):
    run("survey", art, status=0)
    assert "unreadable" in run("survey", art, "--strict", status=1)
    (art / "torn.png").unlink()
    PillowImage.new("RGB", (8192, 8192)).save(art / "huge.png")
    over = run("survey", art, "--target", "lounge", status=1)
    assert "OVER" in over
    for wrong in (("survey", tmp_path / "none"), ("survey", art / "odd_n.png"), ("survey", art, "--target", "toaster")):
        assert run(*wrong, status=2).startswith("oak-trim: ")
    (tmp_path / "bad.oak").write_text('{"version": 1}')
    assert "bad.oak: is not a valid job: Object missing required field" in run("survey", tmp_path / "bad.oak", status=2)


def test_a_job_is_surveyed_and_shipped_with_its_cuts(art, tmp_path):
    job = new_job(art).with_cut(Cut(Cap(32), ("wall_base.png",), ("pocket",)))
    save_job(job, tmp_path / "a.oak", art)
    got = json.loads(run("survey", tmp_path / "a.oak", "--as", "json"))
    wall = next(t for t in got["textures"] if t["path"] == "wall_base.png")
    assert (wall["ships_at"]["pocket"][0], wall["ships_at"]["lounge"][0]) == (32, 128)
    said = run("ship", tmp_path / "a.oak", "--target", "pocket", "--out", tmp_path / "out")
    assert "2 written, 0 unchanged" in said
    assert "0 written, 2 unchanged" in run("ship", tmp_path / "a.oak", "--target", "pocket", "--out", tmp_path / "out")
    assert (tmp_path / "out" / "wall_base.ktx2").exists()
    inside = run("ship", art, "--target", "pocket", "--out", art / "out", status=2)
    assert "inside the source tree" in inside


@pytest.mark.parametrize(
    ("name", "container", "least"), [("bc1", "ktx2", 25), ("bc3", "dds", 25), ("rgba8", "ktx2", 90)]
)
def test_encode_decode_and_measure(tmp_path, name, container, least):
    source = put(tmp_path, "wall.png", size=(60, 44), channels=4)
    run("encode", source, "--format", name, "--container", container, "--effort", "draft", "--out", tmp_path / "o")
    made = tmp_path / "o" / f"wall.{container}"
    run("decode", made, "--out", tmp_path / "back.png")
    run("decode", made, "--level", 2, "--out", tmp_path / "small.png")
    assert decoded(tmp_path / "small.png").shape[:2] == (11, 15)
    back = decoded(tmp_path / "back.png")
    expected = psnr8(back[..., :3], decoded(source)[..., :3])
    assert expected > least
    for other in (made, tmp_path / "back.png"):
        got = json.loads(run("measure", source, other, "--as", "json"))
        measured = got["psnr_rgb"] if got["psnr_rgb"] is not None else np.inf
        assert measured == pytest.approx(expected, abs=0.01) or (name, measured) == ("rgba8", np.inf)
    assert "SSIM" in run("measure", source, made)


def test_normals_and_one_level(tmp_path):
    source = put(tmp_path, "wall_n.png", size=(32, 32))
    run("encode", source, "--format", "bc5", "--no-levels", "--out", tmp_path)
    assert "no level 1" in run("decode", tmp_path / "wall_n.ktx2", "--level", 1, "--out", tmp_path / "x.png", status=2)
    run("decode", tmp_path / "wall_n.ktx2", "--out", tmp_path / "x.png")
    back = decoded(tmp_path / "x.png")
    assert psnr8(back[..., :2], decoded(source)[..., :2]) > 28


def test_errors_are_one_line(tmp_path):
    source = put(tmp_path, "a/wall.png")
    twin = put(tmp_path, "b/wall.png")
    (tmp_path / "torn.png").write_bytes(b"\x89PNG\r\n\x1a\n12")
    for arguments, words in (
        (("encode", source, "--format", "bc9", "--out", tmp_path), "no texture format 'bc9'"),
        (("encode", source, "--format", "astc-6x6", "--out", tmp_path), "cannot be encoded or decoded yet"),
        (("encode", source, twin, "--format", "bc1", "--out", tmp_path), "would be written over"),
        (("encode", tmp_path / "torn.png", "--format", "bc1", "--out", tmp_path), "torn.png: ends inside a PNG chunk"),
        (("decode", source, "--out", tmp_path / "x.png"), "wrong magic bytes"),
        (("measure", source, tmp_path / "gone.png"), "gone.png: cannot be read"),
        (("targets", "toaster"), "no target 'toaster'"),
    ):
        said = run(*arguments, status=2)
        assert words in said
        assert said.count("\n") == 1, said


def test_help_and_lists():
    text = run("--help")
    for name in ("open", "demo", "example", "survey", "ship", "encode", "decode", "measure", "targets"):
        assert name in text
        assert "Usage: oak-trim" in run(name, "--help")
    assert "Pocket" in run("targets")
    assert "160 MiB" in run("targets", "pocket")


def test_without_a_display_the_window_says_so(tmp_path, monkeypatch):
    for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"):
        monkeypatch.delenv(name, raising=False)
    assert "no display here" in run(status=2)
    assert "no such folder or job" in run("open", tmp_path / "none", status=2)
