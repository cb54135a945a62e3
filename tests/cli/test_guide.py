"""The guide's commands, each run as it is written there, on a small game that has what it speaks of."""

import re
import shlex
import shutil
from pathlib import Path

import msgspec
import pytest

from oaktrim.cli.sources import source_at, weigh_source
from oaktrim.core.job.document import load_job, save_job
from oaktrim.core.plan.cuts import KeepCoverage, SetLoss
from oaktrim.core.plan.modelcuts import DropUnused, QuantizeVertices, ReduceMotion
from oaktrim.core.survey.roles import Role
from oaktrim.core.targets.target import target_named
from tests.cli.test_commands import run
from tests.core.makers.test_imposter import box
from tests.core.makers.test_surface import paint, picture
from tests.core.plan.test_soundrules import put_sound
from tests.core.trim.test_model import snake
from tests.kit.atlases import coat
from tests.kit.pictures import busy, smooth
from tests.kit.trees import put, write_model

GUIDE = (Path(__file__).parents[2] / "docs" / "guide.md").read_text()
pytestmark = pytest.mark.slow


def section(heading: str) -> list[list[str]]:
    """Return the commands below a heading, as words; the guide's first block is what all begin with."""
    text = GUIDE.split("\n## ")
    part = text[0] if not heading else next(part for part in text if part.startswith(heading))
    return [shlex.split(line.strip()) for line in part.splitlines() if re.match(r" {4,}oak-trim ", line)]


@pytest.fixture(scope="module")
def game(tmp_path_factory):
    """A folder with `art` and `game.oak`, as the guide's first block makes it."""
    folder = tmp_path_factory.mktemp("game")
    art = folder / "art"
    for number in range(4):
        put(art, f"wall/wall{number}_base.png", busy(512, 512, 3, seed=number).pixels)
        put(art, f"wall/wall{number}_n.png", smooth(256, 256, 3, seed=number).pixels)
    leaf = busy(256, 256, 4, seed=9).pixels.copy()
    leaf[..., 3] = (leaf[..., 0] > 128) * 255
    put(art, "leaf_base.png", leaf)
    put(art, "wall_mask.png", busy(128, 128, 1, seed=7).pixels)
    put(art, "ui/icon.png", busy(300, 300, 4, seed=8).pixels)
    put(art, "planks.jpg", (picture(paint(2, "spots", 200)).pixels[..., :3]))
    put(art, "planks_normal.png", smooth(200, 200, 3, seed=5).pixels)
    coat(art, "avatar.glb")
    write_model(art, "fish/snake.glb", snake())
    put(art, "fish/wood_base.png", size=(32, 32))
    put_sound(art, "voice/hello.wav", seconds=2)
    for name in ("kiosk.glb", "tree.glb"):
        box(art)
        (art / "box.glb").rename(art / name)
    for command in section(""):
        run(*command[1:], cwd=folder)
    job = load_job(folder / "game.oak")
    # Limits that such a small game can pass.
    limits = {"memory": "1536 KiB", "package": "1200 KiB", "streaming": "1500 KiB"}
    pocket = target_named("pocket")
    tight = type(pocket.limits)(**limits, longest_side=2048)
    save_job(job.with_target(msgspec.structs.replace(pocket, limits=tight)), folder / "game.oak", art)
    return folder


@pytest.fixture
def here(game, tmp_path):
    """The game, for one test alone."""
    folder = tmp_path / "game"
    shutil.copytree(game, folder)
    return folder


def follow(heading: str, folder: Path, **statuses: int) -> dict[str, str]:
    """Run the commands below a heading and return what each said, by its first word."""
    said: dict[str, str] = {}
    for _, command, *rest in section(heading):
        said[command] = said.get(command, "") + run(command, *rest, cwd=folder, status=statuses.get(command, 0))
    return said


def memory(folder: Path) -> int:
    """Texture memory on Pocket, as a survey says it."""
    source = source_at(folder / "game.oak")
    (plan,) = weigh_source(source, ("pocket",)).plans
    return int(plan.total("memory"))


def test_a_build_that_crashes_for_memory_fits(here):
    before = memory(here)
    said = follow("My build crashes for memory", here)
    assert memory(here) < before / 3
    assert "to spare" in said["ship"] and "over" not in said["ship"]
    assert {path.suffix for path in (here / "build/pocket/wall").iterdir()} == {".ktx2"}
    assert (here / "art/ui/icon.png").exists(), "sources stay"
    # What was locked ships as it would without the fit.
    cut = {path for cut in load_job(here / "game.oak").cuts for path in cut.assets}
    assert "ui/icon.png" not in cut


def test_an_avatar_that_is_refused_has_fewer_materials(here):
    commands = section("My avatar is refused")
    atlas = next(words for words in commands if words[1] == "atlas")
    # The small game's avatar has no face: all else is as in the guide.
    place = atlas.index("--keep")
    said = run(*atlas[1:place], "--keep", "cloth*", *atlas[place + 2 :], cwd=here)
    assert re.search(r"materials +4 +1 ", said) and "outline differs in 0 pixels" in said
    assert (here / "merged" / "avatar_atlas.glb").exists()
    rehearsal = next(words for words in commands if words[1] == "rehearse")
    assert "JND" in run(*rehearsal[1:], cwd=here)


def test_a_scene_that_streams_blurry_is_looked_at(here):
    said = follow("My scene streams blurry", here)
    assert "door added" in said["station"] and "half of what is wanted" in said["role-rules"]
    assert len(load_job(here / "game.oak").sightlines.stations) == 1


def test_a_download_that_is_too_large_gets_smaller(here):
    said = follow("The download is too large", here, survey=1)
    job = load_job(here / "game.oak")
    changes = {type(cut.change): cut for cut in job.cuts}
    assert changes[SetLoss].change == SetLoss(0.5) and len(changes[SetLoss].assets) >= 4
    assert set(changes) == {SetLoss, ReduceMotion, DropUnused, QuantizeVertices}
    assert changes[ReduceMotion].assets == ("fish/snake.glb#animations/0",)
    (rule,) = job.sound_rules
    assert rule.label == "mono, rate 24 kHz, Vorbis 0.3" and "snake" in said["outfits"]
    assert "<html" in (here / "package.html").read_text()[:400].lower() and said["sharing"]


def test_a_build_that_grows_fails(here):
    commands = section("Fail the build when it grows")
    for words in commands:
        run(*words[1:], cwd=here, status=1 if "check" in words and "--baseline" not in words else 0)
    assert 'name = "icons"' in (here / "studio-checks.toml").read_text()
    put(here / "art", "wall/another_base.png", busy(512, 512, 3, seed=44).pixels)
    worse = next(words for words in commands if "--baseline" in words)
    said = run(*worse[1:], cwd=here, status=1)
    assert "memory" in said and "wall0_base" not in said, "only what got worse"


def test_far_things_have_imposters(here):
    follow("Far things cost too much", here)
    written = {path.name for path in (here / "far").iterdir()}
    assert {"tree_imposter.glb", "kiosk_imposter.glb", "kiosk_imposter.glsl"} <= written, written


def test_it_looked_wrong_on_the_device(here):
    follow("It looked right in the editor", here)
    job = load_job(here / "game.oak")
    assert any(isinstance(cut.change, KeepCoverage) and cut.assets == ("leaf_base.png",) for cut in job.cuts)
    assert [(row.role, row.assets) for row in job.roles] == [(Role.MASK, ("wall_mask.png",))]


def test_photographs_tile(here):
    said = follow("Photographs do not tile", here)
    made = {path.name for path in (here / "made").iterdir()}
    assert made == {"planks.png", "planks_normal.png"}
    assert "seam" in said["surface"]
