"""The command as a build machine runs it: output, files and exit status."""

import csv
import io
import json
import re
import subprocess
import sys
import zlib
from html.parser import HTMLParser
from pathlib import Path

import numpy as np
import pytest
import soundfile
from PIL import Image as PillowImage

from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.job.document import load_job, new_job, save_job
from oaktrim.core.plan.cuts import Cap, Cut
from tests.kit.models import add_mesh, material, scene
from tests.kit.pictures import psnr8
from tests.kit.trees import put, write_model

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
    assert got["counts"] == {
        "files": 3, "textures": 2, "models": 0, "audio": 0, "unreadable": 1, "wrong": 2, "findings": 3,
        "suppressed": 0,
    }  # fmt: skip
    assert [t["id"] for t in got["targets"]] == ["lounge", "pocket", "visor"]
    lines = {limit["line"]: limit for limit in got["targets"][1]["limits"]}
    memory = 100 * 64 * 4 + 43692  # no levels, for no power of two; 128x64 with its levels
    assert lines["memory"] == {
        "line": "memory", "bytes": memory, "limit": 64 << 20, "over": False, "estimated": False,
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


@pytest.mark.slow
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


def test_uastc_is_decoded_as_hardware_shows_it(tmp_path):
    source = put(tmp_path, "wall.png", size=(64, 64), channels=3)
    run("encode", source, "--format", "uastc", "--out", tmp_path)
    lost = {}
    for hardware in ("astc", "bc", "etc2"):
        run("decode", tmp_path / "wall.ktx2", "--seen-on", hardware, "--out", tmp_path / f"{hardware}.png")
        lost[hardware] = psnr8(decoded(tmp_path / f"{hardware}.png")[..., :3], decoded(source))
    assert lost["astc"] >= lost["bc"] > lost["etc2"] > 20
    run("encode", source, "--format", "bc7", "--out", tmp_path / "o")
    refused = run("decode", tmp_path / "o/wall.ktx2", "--seen-on", "bc", "--out", tmp_path / "x.png", status=2)
    assert "wall.ktx2: holds BC7, of which loaders make nothing else" in refused
    assert not (tmp_path / "x.png").exists()


@pytest.mark.slow
def test_an_error_is_counted_as_asked(tmp_path):
    source = put(tmp_path, "wall_base.png")
    told = {}
    for count in ("colour", "perceptual", "data"):
        run("encode", source, "--format", "bc7", "--error-metric", count, "--no-levels", "--out", tmp_path / count)
        run("decode", tmp_path / count / "wall_base.ktx2", "--out", tmp_path / f"{count}.png")
        told[count] = json.loads(run("measure", source, tmp_path / f"{count}.png", "--as", "json"))["psnr"]
    # The eye sees most of green, and a picture without alpha is the same as colour and as data.
    assert told["perceptual"]["G"] > told["colour"]["G"] + 0.5 and told["perceptual"]["B"] < told["colour"]["B"]
    assert told["data"] == told["colour"]


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
        (("encode", source, twin, "--format", "bc1", "--out", tmp_path), "would be written over"),
        (("encode", tmp_path / "torn.png", "--format", "bc1", "--out", tmp_path), "torn.png: ends inside a PNG chunk"),
        (("decode", source, "--out", tmp_path / "x.png"), "wrong magic bytes"),
        (("measure", source, tmp_path / "gone.png"), "gone.png: cannot be read"),
        (("targets", "toaster"), "no target 'toaster'"),
    ):
        said = run(*arguments, status=2)
        assert words in said
        assert said.count("\n") == 1, said


@pytest.mark.slow
def test_help_and_lists():
    text = run("--help")
    for name in ("open", "demo", "example", "survey", "ship", "encode", "decode", "measure", "targets"):
        assert name in text
        assert "Usage: oak-trim" in run(name, "--help")
    assert "Pocket" in run("targets")
    assert "64 MiB" in run("targets", "pocket")


def test_without_a_display_the_window_says_so(tmp_path, monkeypatch):
    for name in ("DISPLAY", "WAYLAND_DISPLAY", "QT_QPA_PLATFORM"):
        monkeypatch.delenv(name, raising=False)
    assert "no display here" in run(status=2)
    assert "no such folder or job" in run("open", tmp_path / "none", status=2)


@pytest.fixture
def yard(tmp_path):
    """A folder with a model, a sound and textures, and a job on it."""
    root = tmp_path / "art"
    put(root, "oak_base.png", size=(256, 256))
    put(root, "oak_n.png", size=(256, 256))
    put(root, "odd_mask.png", size=(100, 64), channels=1)
    soundfile.write(root / "gull.ogg", np.zeros(8000), 8000)
    writer = GltfWriter()
    mesh = add_mesh(writer, material(writer, "planks", baseColorTexture=writer.image("oak_base.png")))
    writer.add("nodes", name="boat", mesh=mesh)
    scene(writer, 0)
    write_model(root, "boat.glb", writer)
    assert "a job on" in run(
        "job", "new", root, "--out", tmp_path / "a.oak", "--target", "pocket", "--target", "lounge"
    )
    return tmp_path


@pytest.mark.slow
def test_a_job_from_the_command_line(yard):
    job = yard / "a.oak"
    assert "is there already" in run("job", "new", yard / "art", "--out", job, status=2)
    assert "Cap 64 on 1 texture" in run("cut", job, "--where", "role:base-colour", "--cap", 64, "--target", "pocket")
    assert "Format BC4 on 1 texture" in run("cut", job, "--where", "odd", "--format", "bc4", "--no-levels")
    run("role-rules", job, "--role", "normal", "--share", "1/2", "--floor", 16)
    run("roles", job, "--where", "odd", "--set", "height")
    said = run("job", "show", job)
    for words in (
        "targets: pocket, lounge", "1. Cap 64 · oak_base.png (pocket)", "3. Levels off", "height for 1 textures",
        "normal half of base colour, at least 16 (all targets)",
    ):  # fmt: skip
        assert words in said
    got = json.loads(run("survey", job, "--as", "json"))
    ships = {t["path"]: (t["ships_at"]["pocket"][0], t["ships_at"]["lounge"][0]) for t in got["textures"]}
    assert ships == {"oak_base.png": (64, 256), "oak_n.png": (32, 128), "odd_mask.png": (100, 100)}
    assert run("role-rules", job, "--role", "normal", "--remove").strip() == "No role rules."
    for wrong, words in (
        (("cut", job, "--where", "side>x", "--cap", 4), "a number"),
        (("cut", job, "--where", "odd"), "say what to cut"),
        (("cut", job, "--where", "odd", "--format", "zip"), "no texture format"),
        (("cut", job, "--where", "odd", "--cap", 4, "--target", "visor"), "has no target 'visor'"),
        (("role-rules", job, "--role", "normal", "--share", "7"), "1/64 to 1"),
        (("role-rules", job, "--floor", "7"), "which --role"),
    ):
        assert words in run(*wrong, status=2)
    assert "nothing is kept by 'side>4096'" in run("cut", job, "--where", "side>4096", "--cap", 4, status=1)


def test_filter_owners_and_counts(yard):
    got = json.loads(run("survey", yard / "art", "--as", "json", "--filter", "oak -role:normal"))
    assert [t["path"] for t in got["textures"]] == ["oak_base.png"]
    assert got["textures"][0]["used_by"] == ["boat.glb > boat > planks"]
    assert {key: got["counts"][key] for key in ("textures", "models", "audio")} == {
        "textures": 3,
        "models": 1,
        "audio": 1,
    }
    assert {f["path"] for f in got["findings"]} <= {"oak_base.png"}
    assert "no field 'sise'" in run("survey", yard / "art", "--filter", "sise>3", status=2)


def test_reports(yard):
    for ending in ("html", "csv", "json"):
        run("survey", yard / "art", "--report", yard / f"r.{ending}")
    assert json.loads((yard / "r.json").read_text())["schema"] == "oak-trim.survey/1"
    assert len((yard / "r.csv").read_text().splitlines()) == 6
    page = (yard / "r.html").read_text()
    told = Page()
    told.feed(page)
    assert not told.open and told.outside == []
    assert page.count("data:image/png;base64,") == sum(1 for _ in re.findall('class="finding"><img', page)) > 0
    for words in ("oak_base.png", "Not power of two", "planks", "texture memory", "no owner"):
        assert words in page
    assert "ends in .html, .csv, .json" in run("survey", yard / "art", "--report", yard / "r.pdf", status=2)


class Page(HTMLParser):
    """Checks that tags close in order and that nothing is loaded from elsewhere."""

    def __init__(self):
        super().__init__()
        self.open, self.outside = [], []

    def handle_starttag(self, tag, attrs):
        if tag not in ("meta", "img", "br"):
            self.open.append(tag)
        self.outside += [v for k, v in attrs if k in ("src", "href") and not v.startswith("data:")]

    def handle_endtag(self, tag):
        assert self.open.pop() == tag


@pytest.mark.slow
def test_only_what_got_worse(yard):
    art = yard / "art"
    run("survey", art, "--report", yard / "base.json")
    assert "Nothing got worse" in run("survey", art, "--baseline", yard / "base.json")
    put(art, "new_overlay.png", size=(90, 64))
    said = run("survey", art, "--baseline", yard / "base.json", status=1)
    assert "new_overlay.png: not-power-of-two" in said and "odd_mask" not in said
    (art / "new_overlay.png").unlink()
    PillowImage.new("RGB", (4096, 4096)).save(art / "huge.png")
    PillowImage.new("RGB", (4096, 4096), 7).save(art / "huge_too.png")
    assert "lounge: texture memory is" in run(
        "survey", art, "--target", "lounge", "--baseline", yard / "base.json", status=1
    )
    (yard / "bad.json").write_text("[]")
    assert "is not a survey" in run("survey", art, "--baseline", yard / "bad.json", status=2)


def test_formats_are_listed_by_what_fits():
    plain = run("formats")
    assert "astc-12x12" in plain and "0.889" in plain
    fitted = run("formats", "--target", "pocket", "--role", "normal")
    assert fitted.index("eac-rg11") < fitted.index("bc7")
    assert "no texture format" not in fitted


@pytest.mark.slow
def test_a_loss_packs_tighter_and_is_a_cut(tmp_path):
    art = tmp_path / "art"
    grain = np.random.default_rng(5).integers(-3, 4, (256, 256, 3))
    flat = np.indices((256, 256)).sum(axis=0)[..., None] // 64 * 40 + 20
    (art / "wall").mkdir(parents=True)
    PillowImage.fromarray(np.clip(flat + grain, 0, 255).astype(np.uint8)).save(art / "wall/wall_base.png")
    job = tmp_path / "a.oak"
    run("job", "new", art, "--out", job, "--target", "lounge")
    run("cut", job, "--where", "role:base-colour", "--format", "bc1")
    run("ship", job, "--target", "lounge", "--out", tmp_path / "plain")
    assert "1 texture" in run("cut", job, "--where", "role:base-colour", "--loss", "1.5")
    assert "Error metric: by eye on 1 texture" in run(
        "cut", job, "--where", "role:base-colour", "--error-metric", "perceptual"
    )
    run("ship", job, "--target", "lounge", "--out", tmp_path / "lossy")
    files = [(tmp_path / name / "wall/wall_base.dds").read_bytes() for name in ("plain", "lossy")]
    assert len(files[0]) == len(files[1])
    packed = [len(zlib.compress(data, 9)) for data in files]
    assert packed[1] < 0.95 * packed[0]


@pytest.mark.slow
def test_fit_writes_cuts_that_hold(art, tmp_path):
    job = tmp_path / "yard.oak"
    save_job(new_job(art), job, art)
    before = job.read_bytes()
    dry = run("fit", job, "--target", "pocket", "--line", "memory=20KiB", "--dry-run")
    assert job.read_bytes() == before
    assert "wall_base.png" in dry
    assert "spared" in dry or "spare" in dry, "it says why not better"
    run("fit", job, "--target", "pocket", "--line", "memory=20KiB")
    memory = next(
        limit["bytes"]
        for target in json.loads(run("survey", job, "--target", "pocket", "--as", "json"))["targets"]
        for limit in target["limits"]
        if limit["line"] == "memory"
    )
    assert memory <= 20 * 1024
    said = run("fit", job, "--target", "pocket", "--line", "memory=2KiB", "--lock", "role:normal", status=1)
    assert "memory" in said
    assert "1 textures are locked" in said
    assert "lines are memory" in run("fit", job, "--target", "pocket", "--line", "fuel=2KiB", status=2)


def test_cubes_and_arrays(tmp_path):
    faces = [put(tmp_path, f"face{k}.png", size=(32, 32)) for k in range(6)]
    run("encode", *faces, "--format", "rgb8", "--stack", "cube", "--out", tmp_path / "out")
    run("decode", tmp_path / "out" / "face0.ktx2", "--slice", "4", "--out", tmp_path / "back.png")
    assert np.array_equal(decoded(tmp_path / "back.png"), decoded(faces[4]))
    assert "whole cubes" in run(
        "encode", *faces[:5], "--format", "rgb8", "--stack", "cube", "--out", tmp_path / "out", status=2
    )


@pytest.mark.slow
def test_rules_checks_and_answers_from_the_command_line(tmp_path):
    art = tmp_path / "art"
    for number in range(4):
        put(art, f"set{number}/c.png", size=(256, 256))
        put(art, f"set{number}/f.png", size=(128, 128), channels=1)
        put(art, f"wall{number}_base.png", size=(256, 256))
    job = tmp_path / "job.oak"
    save_job(new_job(art), job, art)
    listed = run("look-alikes", job)
    assert "4 grey pictures named f" in listed and "is guessed" not in listed
    number = next(int(line.split(".")[0]) for line in listed.splitlines() if "named f" in line)
    assert "kept as the pattern f" in run("look-alikes", job, "--answer", number, "height")
    assert "named f" not in run("look-alikes", job)
    got = run("format-rules", job, "--common", "--dry-run", "--target", "pocket")
    assert "becomes" in got and load_job(job).format_rules == ()
    run("format-rules", job, "--common", "--target", "pocket")
    run(
        "format-rules", job, "--role", "base-colour", "--pixels", "opaque", "--format", "astc-4x4", "--target", "pocket"
    )
    ships = {
        t["path"]: t["ships_at"]["pocket"] for t in json.loads(run("survey", job, "--as", "json", status=0))["textures"]
    }
    ruled = {t["path"]: t["rules"] for t in json.loads(run("survey", job, "--as", "json"))["textures"]}
    assert ruled["set0/f.png"]["pocket"][-1].startswith("format: EAC R11") and ruled["set0/f.png"]["lounge"] == []
    assert ships["wall0_base.png"][3] == "astc-4x4" and ships["set0/f.png"][3] == "eac-r11"
    assert "say which --role" in run("format-rules", job, "--format", "bc1", status=2)
    assert "no format 'bc2'" in run("format-rules", job, "--role", "normal", "--format", "bc2", status=2)
    run(
        "checks",
        job,
        "--set",
        "small",
        "--where",
        "side>200",
        "--severity",
        "error",
        "--say",
        "too large",
        "--cap",
        128,
    )
    assert "small (error): meets 8 files" in run("checks", job, "--grade", "no-levels=off")
    report = json.loads(run("survey", job, "--as", "json"))
    assert {f["path"] for f in report["findings"] if f["code"] == "small"} == {
        p for p in ships if not p.endswith("f.png")
    }
    run("survey", job, "--strict", status=1)
    assert "letter 1 of 'sid>3'" in run("checks", job, "--set", "odd", "--where", "sid>3", status=2)
    shared = tmp_path / "studio.toml"
    run("checks", job, "--write", shared)
    run("checks", job, "--remove", "small", "--use", "../studio.toml")
    assert "small (error)" in run("checks", job)
    shared.write_text("version = 1\n[[check]]\nname = 'x'\n")
    assert "studio.toml" in run("survey", job, status=2)
    assert "is no format" not in run("fit", job, "--target", "pocket", "--by-rules", "--dry-run")
