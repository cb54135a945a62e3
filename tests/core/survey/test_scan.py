"""Surveying trees as they are found: odd names, links, things that vanish, things that are not what they seem."""

import fnmatch
import os
import shutil

import numpy as np
import pytest
import soundfile

from oaktrim.core.errors import FileError
from oaktrim.core.progress import finish
from oaktrim.core.survey import scan as module
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.look import looks_the_same
from oaktrim.core.survey.places import file_of
from oaktrim.core.survey.roles import DEFAULT_PATTERNS, Role, RolePattern, role_guesser
from oaktrim.core.survey.sample import sample_of
from oaktrim.core.survey.scan import ScanSettings, as_surveyed, remembered, scan
from tests.kit.pictures import busy
from tests.kit.trees import parts, put, surveyed


def test_what_is_there(tmp_path):
    put(tmp_path, "b/wall_base.png", channels=4)
    put(tmp_path, "a/wall_n.tga", size=(32, 16))
    (tmp_path / "notes.txt").write_text("no picture")
    (tmp_path / "broken.png").write_bytes(b"\x89PNG\r\n\x1a\n123")
    got = surveyed(tmp_path)
    assert [t.path for t in got.textures] == ["a/wall_n.tga", "b/wall_base.png"]
    assert (got.files, len(got.unreadable)) == (4, 1)
    assert got.unreadable[0].path == "broken.png"
    assert (got.textures[0].width, got.textures[0].height, got.textures[0].channels) == (32, 16, 3)
    assert [guess.role for guess in got.roles] == [Role.NORMAL, Role.BASE_COLOUR]
    assert got.textures[1].natural_format == "rgba8"


def test_ignored_paths_are_not_looked_at(tmp_path):
    for name in ("keep/a.png", "old/b.png", ".git/c.png", "keep/d_draft.png"):
        put(tmp_path, name)
    settings = ScanSettings(ignore=(".*", "old/", "*_draft.png"))
    assert [t.path for t in surveyed(tmp_path, settings=settings).textures] == ["keep/a.png"]


def test_links_do_not_go_round(tmp_path):
    put(tmp_path, "a/one.png")
    (tmp_path / "a" / "loop").symlink_to(tmp_path, target_is_directory=True)
    (tmp_path / "self.png").symlink_to("self.png")
    (tmp_path / "gone.png").symlink_to("nowhere.png")
    (tmp_path / "two.png").symlink_to("a/one.png")
    got = surveyed(tmp_path)
    assert [t.path for t in got.textures] == ["a/one.png", "two.png"]
    assert {u.path for u in got.unreadable} == {"self.png", "gone.png"}


def test_files_that_vanish_are_listed(tmp_path, monkeypatch):
    for name in ("a.png", "b.png", "c.png"):
        put(tmp_path, name)
    walk = module.walk

    def walk_and_lose(*args):
        for seen in list(walk(*args)):
            if seen.path == "b.png":
                seen.file.unlink()
            yield seen

    monkeypatch.setattr(module, "walk", walk_and_lose)
    got = surveyed(tmp_path)
    assert len(got.textures) == 2
    assert "vanished" in got.unreadable[0].error


@pytest.mark.skipif(os.geteuid() != 0, reason="takes root to become somebody else")
def test_what_may_not_be_read_is_listed(tmp_path):
    put(tmp_path, "open.png")
    put(tmp_path, "locked.png").chmod(0)
    put(tmp_path, "shut/inside.png").parent.chmod(0)
    for folder in (tmp_path, *tmp_path.parents):
        if str(folder).startswith("/tmp/"):
            folder.chmod(0o755)
    os.seteuid(65534)
    try:
        got = surveyed(tmp_path)
    finally:
        os.seteuid(0)
        (tmp_path / "shut").chmod(0o755)
    assert [t.path for t in got.textures] == ["open.png"]
    assert {u.path: "permission denied" in u.error for u in got.unreadable} == {"locked.png": True, "shut": True}


def test_names_that_are_not_utf8(tmp_path):
    path = put(tmp_path, "caf.png")
    odd = os.fsdecode(os.fsencode(tmp_path) + b"/caf\xe9 \\ \xc3\xa9.png")
    path.rename(odd)
    got = surveyed(tmp_path)
    assert [t.path for t in got.textures] == ["caf\\xe9 \\ é.png"]
    assert os.fspath(file_of(tmp_path, got.textures[0].path)) == odd


def test_devices_and_pipes_are_not_opened(tmp_path):
    put(tmp_path, "a.png")
    os.mkfifo(tmp_path / "pipe.png")
    got = surveyed(tmp_path)
    assert [u.path for u in got.unreadable] == ["pipe.png"]


def test_no_root_no_survey(tmp_path):
    with pytest.raises(FileError, match=r"nothing: cannot be read: no such file"):
        surveyed(tmp_path / "nothing")


def test_the_size_limit_is_a_setting(tmp_path):
    put(tmp_path, "large.png", size=(200, 100))
    got = surveyed(tmp_path, settings=ScanSettings(max_pixels=10_000))
    assert "over the limit of 10000" in got.unreadable[0].error


def test_what_is_known_is_not_read_again(tmp_path, cache, monkeypatch):
    root = tmp_path / "art"
    for name in ("a.png", "b.png"):
        put(root, name)
    first = finish(scan(root, cache=cache))
    put(root, "b.png", busy(16, 16, 3).pixels)
    read = []
    real = module.tell
    monkeypatch.setattr(module, "tell", lambda seen, *rest: read.append(seen.path) or real(seen, *rest))
    again = finish(scan(root, cache=cache))
    assert read == ["b.png"]
    assert again.textures[0] == first.textures[0]
    assert again.textures[1].width == 16
    cache.file.write_bytes(b"not a database at all" * 100)
    assert finish(scan(root, cache=cache)).textures == again.textures


def test_a_fresh_checkout_is_told_by_its_bytes(tmp_path, cache, monkeypatch):
    """Its files have other times; only what holds other bytes is read, also where it has as many."""
    root = tmp_path / "art"
    for name in ("a.bmp", "b.bmp"):
        put(root, name)
    soundfile.write(root / "hum.wav", np.sin(np.arange(4000)) / 2, 8000)
    first = finish(scan(root, cache=cache))
    put(root, "b.bmp", busy(64, 64, 3, seed=9).pixels)
    for number, file in enumerate(sorted(root.iterdir())):
        os.utime(file, (1_000_000 + number, 1_000_000 + number))
    read = []
    real = module.tell
    monkeypatch.setattr(module, "tell", lambda seen, *rest: read.append(seen.path) or real(seen, *rest))
    again = finish(scan(root, cache=cache))
    assert read == ["b.bmp"]
    assert (again.textures[0].content, again.textures[0].file_time) == (first.textures[0].content, 1_000_000 * 10**9)
    assert again.textures[1].content != first.textures[1].content
    assert again.audio[0].content == first.audio[0].content
    read.clear()
    assert finish(scan(root, cache=cache)).textures == again.textures and not read


def test_copies_and_renamed_files_are_told_by_their_bytes(tmp_path, cache, monkeypatch):
    root = tmp_path / "art"
    for name in ("a/wall.bmp", "b/other.bmp"):
        put(root, name)
    shutil.copy(root / "a/wall.bmp", root / "b/wall.bmp")
    for name in ("a/torn.png", "b/torn.png"):
        (root / name).write_bytes(b"\x89PNG\r\n\x1a\n123")
    read = []
    real = module.tell
    monkeypatch.setattr(module, "tell", lambda seen, *rest: read.append(seen.path) or real(seen, *rest))
    first = finish(scan(root, cache=cache))
    assert sorted(read) == ["a/torn.png", "a/wall.bmp", "b/other.bmp"]
    assert {row.path for row in first.unreadable} == {"a/torn.png", "b/torn.png"}
    facts = {texture.path: texture for texture in first.textures}
    alone = surveyed(root / "b").textures
    assert [facts[f"b/{texture.path}"].content for texture in alone] == [texture.content for texture in alone]
    assert facts["a/wall.bmp"].live == facts["b/wall.bmp"].live and len(facts) == 3
    read.clear()
    (root / "b/other.bmp").rename(root / "b/renamed.bmp")
    shutil.copy(root / "b/wall.bmp", root / "b/third.bmp")
    again = finish(scan(root, cache=cache))
    assert read == ["a/torn.png"] and [row.path for row in again.textures] == [
        "a/wall.bmp", "b/renamed.bmp", "b/third.bmp", "b/wall.bmp",
    ]  # fmt: skip
    assert again.textures[1].content == facts["b/other.bmp"].content
    assert cache.sample(again.textures[2].content) is not None


def test_a_stopped_survey_keeps_what_it_read(tmp_path, cache):
    root = tmp_path / "art"
    for place in range(12):
        put(root, f"{place}.png")
    task = scan(root, cache=cache, threads=1)
    for _ in range(6):
        next(task)
    task.close()
    assert 4 <= len(cache.facts(root)) < 12


def test_samples_come_back_as_they_went(tmp_path, cache):
    root = tmp_path / "art"
    put(root, "a.png", size=(300, 200), channels=4)
    facts = finish(scan(root, cache=cache)).textures[0]
    pieces = cache.sample(facts.content)
    expected = sample_of(busy(300, 200, 4, seed=sum(b"a.png")))
    assert [piece.pixels.shape for piece in pieces] == [(64, 256, 4), (100, 150, 4), (50, 75, 4)]
    for piece, other in zip(pieces, expected.pieces, strict=True):
        assert (piece.pixels == other.pixels).all()
    assert cache.thumbnail(facts.content).shape == (37, 56, 4)
    assert (cache.thumbnail(facts.content) == expected.thumbnail).all()
    # Over its limit the cache drops what it can make again, and goes on.
    small = SurveyCache(cache.folder, limit=1 << 12)
    assert small.trim() == 1 and small.sample(facts.content) is None
    assert finish(scan(root, cache=small)).textures[0] == facts


def test_the_first_pattern_that_fits_a_name_tells_its_role():
    """As if one after the other were tried, whatever patterns there are beside those that ask for a last word."""
    texts = ["rock*", "*_n", "*_a_b", "*_[xy]", "*_n?", "*_b", "*_n", "w*_ao", "*_ao", "*"]
    rng, roles = np.random.default_rng(0), list(Role)
    for _ in range(40):
        kept = [str(text) for text in rng.permutation(texts)[: rng.integers(0, len(texts))]]
        patterns = tuple(RolePattern(text, roles[k]) for k, text in enumerate(kept))
        for name in (
            "rock_n",
            "wall_a_b",
            "wall_x",
            "b",
            "_b",
            "wall_ao",
            "n",
            "rock",
            "wall_nn",
            "moss_ao",
            "a_c",
            "",
        ):
            first = next((roles[k] for k, text in enumerate(kept) if fnmatch.fnmatchcase(name, text)), Role.UNKNOWN)
            assert role_guesser(patterns)(f"some/{name}.png").role is first, (kept, name)


@pytest.mark.parametrize(
    ("name", "role"),
    [
        ("Wall_BaseColor.png", Role.BASE_COLOUR), ("wall-normal.tga", Role.NORMAL), ("wall_n.png", Role.NORMAL),
        ("wall_orm.png", Role.SURFACE), ("x/wall roughness.png", Role.ROUGHNESS), ("wall_ao.png", Role.OCCLUSION),
        ("wall.png", Role.UNKNOWN), ("iron.png", Role.UNKNOWN), ("lamp_e.png", Role.EMISSIVE),
    ],
)  # fmt: skip
def test_roles_by_name(name, role):
    assert role_guesser(DEFAULT_PATTERNS)(name).role is role


def test_patterns_can_be_changed_and_give_their_reason():
    guess = role_guesser((RolePattern("t_*_x", Role.HEIGHT),))("t_wall_x.png")
    assert guess.role is Role.HEIGHT
    assert "t_*_x" in guess.reason


def test_columns_follow_the_rows(tmp_path):
    put(tmp_path, "a.png", size=(8, 4))
    put(tmp_path, "b.png", np.zeros((6, 6), np.uint8))
    got = surveyed(tmp_path)
    assert got.width.tolist() == [8, 6]
    assert got.rows(("b.png", "gone.png", "a.png")).tolist() == [1, 0]


def test_a_large_tree_is_remembered_as_it_was(tmp_path, monkeypatch):
    monkeypatch.setattr(module, "_WORTH_REMEMBERING", 3)
    root, cache = tmp_path / "art", SurveyCache(tmp_path)
    for name in ("b/wall_base.png", "a/wall_n.png"):
        put(root, name)
    (root / "broken.png").write_bytes(b"\x89PNG\r\n\x1a\n123")
    assert remembered(root, ScanSettings(), cache) is None
    was = finish(scan(root, cache=cache))
    (root / "b" / "wall_base.png").unlink()
    put(root, "c/new.png")
    assert parts(remembered(root, ScanSettings(), cache)) == parts(was)
    assert remembered(root, ScanSettings(ignore=("b/",)), cache) is None
    now = finish(scan(root, cache=cache))
    assert parts(remembered(root, ScanSettings(), cache)) == parts(now) != parts(was)
    assert [t.path for t in now.textures] == ["a/wall_n.png", "c/new.png"]


def _touched(root):
    os.utime(root / "a/wall_n.png", ns=(1, 1))


def _mended(root):
    put(root, "broken.png")


def _broken_otherwise(root):
    (root / "broken.png").write_bytes(b"")


@pytest.mark.parametrize(
    "change",
    [
        _touched,
        _mended,
        _broken_otherwise,
        lambda root: put(root, "c/new.png"),
        lambda root: (root / "b/wall_base.png").unlink(),
        lambda root: (root / "b/wall_base.png").rename(root / "b/other.png"),
        lambda root: (root / "notes.txt").write_text("no picture"),
    ],
)
def test_a_look_tells_whether_a_large_tree_is_as_it_was(tmp_path, monkeypatch, change):
    monkeypatch.setattr(module, "_WORTH_REMEMBERING", 3)
    root, cache = tmp_path / "art", SurveyCache(tmp_path)
    for name in ("b/wall_base.png", "a/wall_n.png"):
        put(root, name)
    (root / "broken.png").write_bytes(b"\x89PNG\r\n\x1a\n123")
    assert not as_surveyed(root, ScanSettings(), cache)
    finish(scan(root, cache=cache))
    assert as_surveyed(root, ScanSettings(), cache)
    assert not as_surveyed(root, ScanSettings(ignore=("b/",)), cache)
    change(root)
    assert not as_surveyed(root, ScanSettings(), cache)


def test_a_process_looks_as_this_one_does(tmp_path, monkeypatch):
    monkeypatch.setattr(module, "_WORTH_REMEMBERING", 1)
    root = tmp_path / "art"
    put(root, "caf.png").rename(os.fsdecode(os.fsencode(root) + b"/caf\xe9.png"))
    cache = SurveyCache(tmp_path)
    assert finish(looks_the_same(root, ScanSettings(), cache)) is False
    finish(scan(root, cache=cache))
    assert finish(looks_the_same(root, ScanSettings(), cache)) is True
    put(root, "new.png")
    assert finish(looks_the_same(root, ScanSettings(), cache)) is False


def test_what_other_kernels_made_was_measured_in_vain(tmp_path, monkeypatch):
    """A release whose encoders make other bytes does not call what an older one measured exact."""
    cache = SurveyCache(tmp_path)
    cache.keep_measured({"content a": 10, "content b": 20})
    cache.keep_losses({"content a": 0.5})
    with monkeypatch.context() as other:
        other.setattr("oaktrim.core.survey.cache.encoding_state", lambda: "another")
        assert cache.measured() == cache.losses() == {}
        cache.keep_measured({"content a": 11})
        assert cache.measured() == {"content a": 11}
    assert cache.measured() == {"content b": 20}
    assert cache.losses() == {"content a": 0.5}
