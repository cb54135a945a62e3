"""Shipping: files that hold what was planned, that are written once, and whole or not at all."""

import hashlib
import json
import os
import shutil

import msgspec
import numpy as np
import pytest
import soundfile
from backports import zstd

from oaktrim.core.codecs.effort import ErrorMetric
from oaktrim.core.codecs.texture import decode_level, encode_texture, stack_textures
from oaktrim.core.errors import DocumentError, ShipError
from oaktrim.core.files import dds
from oaktrim.core.files.atomic import content_hash
from oaktrim.core.files.pictures import parse_texture
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.levels import build_mip_chain
from oaktrim.core.pixels.metrics import psnr_rgb
from oaktrim.core.pixels.resample import resample
from oaktrim.core.plan.cuts import Cap, Cut, Drop, SetErrorMetric, SetFormat
from oaktrim.core.plan.packing import CompressionRatios, measured_before
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.progress import finish
from oaktrim.core.ship import run as run_module
from oaktrim.core.ship.run import ship
from oaktrim.core.ship.schedule import Reason, schedule
from oaktrim.core.ship.store import MadeStore
from oaktrim.core.ship.weighing import measure_packages
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.scan import scan
from oaktrim.core.targets.lines import byte_lines
from oaktrim.core.targets.target import target_named
from tests.kit.models import rich_model
from tests.kit.pictures import busy
from tests.kit.trees import planned, put, write_model


@pytest.fixture
def art(tmp_path):
    root = tmp_path / "art"
    put(root, "wall/brick_base.png", busy(128, 128, 4).pixels)
    put(root, "wall/brick_n.png", size=(64, 64))
    put(root, "icon.tga", size=(30, 20), channels=4)
    put(root, "mask_m.png", busy(32, 32, 1).pixels)
    return root


def tree(folder):
    """Every file below a folder, by path, with its bytes and its time."""
    return {
        str(p.relative_to(folder)): (p.read_bytes(), p.stat().st_mtime_ns) for p in folder.rglob("*") if p.is_file()
    }


def test_what_is_planned_is_written(art, tmp_path):
    before, out = tree(art), tmp_path / "out"
    cuts = (Cut(Cap(64), ("wall/brick_base.png",)), Cut(SetFormat("bc3"), ("wall/brick_base.png",)))
    plan = planned(art, "lounge", *cuts)
    shipped = finish(ship(plan, out))
    assert tree(art) == before, "sources are never written"
    assert (shipped.written, shipped.unchanged, shipped.manifest.failed) == (4, 0, ())
    names = {"wall/brick_base.dds", "wall/brick_n.dds", "icon.dds", "mask_m.dds", "manifest.json"}
    assert set(tree(out)) == names
    path = out / "wall" / "brick_base.dds"
    texture = parse_texture(path.read_bytes(), path)
    assert (texture.format.name, texture.width, texture.height, len(texture.levels)) == ("bc3", 64, 64, 7)
    reference = resample(Image.of(busy(128, 128, 4).pixels), 64, 64)
    assert psnr_rgb(reference, decode_level(texture)) > 25  # another picture of this kind stays under 15
    entry = next(e for e in shipped.manifest.textures if e.source == "wall/brick_base.png")
    assert entry.psnr == pytest.approx(psnr_rgb(reference, decode_level(texture)), abs=0.01)
    assert entry.source_hash == hashlib.blake2b(before["wall/brick_base.png"][0], digest_size=16).hexdigest()
    assert entry.file_bytes == path.stat().st_size
    by_line = {s.line.name: s.value for s in shipped.statuses}
    assert by_line["memory"] == plan.total("memory")
    document = json.loads((out / "manifest.json").read_text())
    assert document["schema"] == "oak-trim.manifest/1"
    assert sum(t["memory"] for t in document["textures"]) == by_line["memory"]


def test_what_was_measured_is_what_ships_to_the_byte(art, tmp_path):
    """Every line that is counted in bytes; sounds and models, longer than what is looked at of them, packed whole."""
    rng = np.random.default_rng(0)
    # Quiet at first and in the middle, loud at the end: a piece from the middle says little of the whole.
    sound = np.concatenate([np.zeros(300_000), rng.normal(0, 0.2, 100_000)])
    soundfile.write(art / "gull.wav", sound, 44_100)
    write_model(art, "crate.glb", rich_model())
    cache, target = SurveyCache(tmp_path), target_named("visor")
    target = msgspec.structs.replace(
        target, limits=msgspec.structs.replace(target.limits, **dict.fromkeys(byte_lines(), "1 GiB"))
    )
    inventory = finish(scan(art, cache=cache))
    ratios, cuts = CompressionRatios(inventory), (Cut(SetFormat("astc-6x6"), ("wall/brick_base.png",)),)
    guessed = resolve(inventory, target, cuts, ratios)
    measured = finish(measure_packages(guessed, ratios, cache))
    assert len(measured.sizes) == len(inventory.textures) + 2
    ratios = ratios.merged(measured)
    plan = resolve(inventory, target, cuts, ratios)
    assert plan.all_measured and plan.uncertainty == 0 < guessed.uncertainty
    shipped = finish(ship(plan, tmp_path / "out"))
    assert {s.line.name: s.value for s in shipped.statuses if s.line.name in byte_lines()} == {
        line: plan.total(line) for line in byte_lines()
    }
    audio = len(zstd.compress((art / "gull.wav").read_bytes(), target.packing.level))
    assert plan.by_family("package")["audio"] == audio
    assert abs(guessed.by_family("package")["audio"] / audio - 1) > 0.1
    # A later run, and a later survey, know it without packing again.
    again = finish(ship(plan, tmp_path / "out")).manifest
    assert (again.models, again.sounds) == (shipped.manifest.models, shipped.manifest.sounds)
    later = CompressionRatios(finish(scan(art, cache=cache))).merged(measured_before(cache))
    assert resolve(inventory, target, cuts, later).all_measured


@pytest.mark.parametrize("name", ["rgba8", "bc7"])
def test_values_beside_an_alpha_of_nothing_are_shipped(tmp_path, name):
    """Roughness stays roughness where the gloss in alpha is 0: at the shipped size and at every level."""
    root = tmp_path / "art"
    values = busy(128, 128, 4).pixels.copy()
    values[..., 3] = 255
    values[:, 64:, 3] = 0
    values[:, :64:2] = (200, 60, 160, 0)
    put(root, "wall_orm.png", values)
    plan = planned(root, "lounge", Cut(Cap(64), ("wall_orm.png",)), Cut(SetFormat(name), ("wall_orm.png",)))
    shipped = finish(ship(plan, tmp_path / "out"))
    path = tmp_path / "out" / "wall_orm.dds"
    texture = parse_texture(path.read_bytes(), path)
    for level in range(3):
        side = 64 >> level
        wanted = values[..., :3].reshape(side, 128 // side, side, 128 // side, 3).mean(axis=(1, 3))
        miss = np.abs(decode_level(texture, level).pixels[..., :3] - wanted)
        for half in (miss[:, 2 : side // 2 - 2], miss[:, side // 2 + 2 : -2]):
            # Weighted by alpha while they are brought down, those on the left would be off by 31.
            assert half.mean() < (20 if name == "bc7" else 6), f"level {level}"
    assert shipped.manifest.textures[0].psnr is None or shipped.manifest.textures[0].psnr > 30


def test_what_errors_count_on_is_shipped_and_its_change_seen(art, tmp_path):
    base, out = ("wall/brick_base.png",), tmp_path / "out"
    finish(ship(planned(art, "lounge", Cut(SetFormat("bc7"), base)), out))
    before = (out / "wall" / "brick_base.dds").read_bytes()
    plan = planned(art, "lounge", Cut(SetFormat("bc7"), base), Cut(SetErrorMetric(ErrorMetric.PERCEPTUAL), base))
    shipped = finish(ship(plan, out))
    assert (shipped.written, shipped.unchanged) == (1, 3)
    entry = next(e for e in shipped.manifest.textures if e.source == base[0])
    assert (
        entry.settings.error_metric is ErrorMetric.PERCEPTUAL
        and (out / "wall" / "brick_base.dds").read_bytes() != before
    )


def test_a_second_run_with_nothing_changed_writes_nothing(art, tmp_path):
    out, plan = tmp_path / "out", planned(art, "pocket")
    finish(ship(plan, out))
    before = tree(out)
    again = finish(ship(planned(art, "pocket"), out))
    assert (again.written, again.unchanged) == (0, 4)
    assert tree(out) == before


def test_only_what_changed_is_made_again(art, tmp_path):
    out = tmp_path / "out"
    finish(ship(planned(art, "pocket"), out))
    put(art, "wall/brick_n.png", busy(64, 64, 3, seed=9).pixels)
    (out / "icon.ktx2").write_bytes(b"spoilt")
    plan = planned(art, "pocket", Cut(Drop(1), ("mask_m.png",)))
    reasons = {item.recipe.path: item.reason for item in schedule(plan, out)}
    assert reasons == {
        "wall/brick_base.png": Reason.UNCHANGED,
        "wall/brick_n.png": Reason.SOURCE,
        "icon.tga": Reason.OUTPUT,
        "mask_m.png": Reason.RECIPE,
    }
    assert finish(ship(plan, out)).written == 3
    (art / "icon.tga").unlink()
    (out / "mine.txt").write_text("not ours")
    assert finish(ship(planned(art, "pocket", Cut(Drop(1), ("mask_m.png",))), out)).removed == 1
    assert set(tree(out)) == {"wall/brick_base.ktx2", "wall/brick_n.ktx2", "mask_m.ktx2", "manifest.json", "mine.txt"}


def test_a_run_that_is_stopped_leaves_no_half_file(art, tmp_path):
    out, plan = tmp_path / "out", planned(art, "pocket")
    task = ship(plan, out, threads=1)
    next(task)
    next(task)
    task.close()
    left = tree(out)
    assert 1 <= len([name for name in left if name.endswith(".ktx2")]) < 4
    assert not [name for name in left if "oak-trim-" in name]
    for name in left:
        if name.endswith(".ktx2"):
            parse_texture(left[name][0], out / name)
    kept = json.loads(left["manifest.json"][0])["textures"]
    rest = finish(ship(plan, out))
    assert rest.unchanged == len(kept) >= 1
    assert rest.written == 4 - len(kept)


@pytest.mark.parametrize("place", [".", "out", "wall/deep/er"])
def test_nothing_is_written_into_the_source_tree(art, place):
    before = tree(art)
    with pytest.raises(ShipError, match="inside the source tree"):
        finish(ship(planned(art, "pocket"), art / place))
    link = art.parent / "link"
    link.symlink_to(art, target_is_directory=True)
    with pytest.raises(ShipError, match="inside the source tree"):
        finish(ship(planned(art, "pocket"), link / "out"))
    assert tree(art) == before


def test_nor_through_a_folder_above_it(art, tmp_path):
    (tmp_path / "wall").symlink_to(art / "wall", target_is_directory=True)
    with pytest.raises(ShipError, match="into the source tree"):
        finish(ship(planned(art, "pocket"), tmp_path))


def test_names_that_would_meet_are_kept_apart(tmp_path):
    root, out = tmp_path / "art", tmp_path / "out"
    for name in ("a/Wall.png", "a/wall.tga", "a/other.png"):
        put(root, name)
    finish(ship(planned(root, "pocket"), out))
    assert set(tree(out)) == {"a/Wall.png.ktx2", "a/wall.tga.ktx2", "a/other.ktx2", "manifest.json"}


def test_a_texture_that_cannot_be_made_does_not_stop_the_rest(art, tmp_path):
    plan = planned(art, "lounge", Cut(SetFormat("rgba4444"), ("icon.tga",)))
    (art / "mask_m.png").unlink()
    shipped = finish(ship(plan, tmp_path / "out"))
    errors = {failure.source: failure.error for failure in shipped.manifest.failed}
    assert errors["icon.tga"].startswith("icon.tga: a DDS file has no code for RGBA4444")
    assert "mask_m.png" in errors["mask_m.png"] and "no such file" in errors["mask_m.png"]
    assert shipped.written == 2


def test_a_folder_with_a_manifest_of_somebody_else_is_left_alone(art, tmp_path):
    out = tmp_path / "out"
    out.mkdir()
    (out / "manifest.json").write_text('{"name": "a web application"}')
    with pytest.raises(DocumentError, match="not a manifest of Oak Trim"):
        finish(ship(planned(art, "pocket"), out))
    assert os.listdir(out) == ["manifest.json"]


def test_files_that_no_run_left_are_not_written_over(art, tmp_path):
    out = tmp_path / "out"
    put(out, "icon.png")
    (out / "icon.ktx2").write_bytes(b"somebody's work")
    with pytest.raises(ShipError, match=r"icon\.ktx2: is there already, and no run of Oak Trim left it"):
        finish(ship(planned(art, "pocket"), out))
    assert set(tree(out)) == {"icon.png", "icon.ktx2"}
    assert (out / "icon.ktx2").read_bytes() == b"somebody's work"
    # A folder of ours may be written into again, even when a run was killed before its first texture.
    ours = tmp_path / "ours"
    task = ship(planned(art, "pocket"), ours, threads=1)
    next(task)
    next(task)
    (ours / "icon.ktx2").write_bytes(b"left by a killed run")
    del task
    assert finish(ship(planned(art, "pocket"), ours)).manifest.failed == ()


def test_what_holds_the_same_is_made_once(tmp_path, monkeypatch):
    root, made = tmp_path / "art", []
    put(root, "a_base.png")
    shutil.copy(root / "a_base.png", root / "b_base.png")
    shutil.copy(root / "a_base.png", root / "c_n.png")
    real = run_module.make_texture
    monkeypatch.setattr(
        run_module, "make_texture", lambda i, row, *rest, **more: made.append(row) or real(i, row, *rest, **more)
    )
    shipped = finish(ship(planned(root, "lounge"), tmp_path / "out", threads=1))
    rows = {entry.source: entry for entry in shipped.manifest.textures}
    # Another role reads and filters the same pixels otherwise.
    assert len(made) == 2 and shipped.written == 3
    first, second = rows["a_base.png"], rows["b_base.png"]
    assert (first.output_hash, first.psnr, first.role) == (second.output_hash, second.psnr, second.role)
    assert rows["c_n.png"].role == "normal"
    for entry in rows.values():
        assert content_hash((tmp_path / "out" / entry.output).read_bytes()) == entry.output_hash
    assert finish(ship(planned(root, "lounge"), tmp_path / "out")).written == 0


def test_what_was_saved_in_between_is_not_kept_for_what_was_surveyed(tmp_path):
    root, store = tmp_path / "art", MadeStore(tmp_path / "store")
    put(root, "a_base.png")
    whole = (root / "a_base.png").read_bytes()
    cut = Cut(SetFormat("bc7"), ("a_base.png",))
    plan = planned(root, "lounge", cut)
    put(root, "a_base.png", busy(64, 64, 3, seed=77).pixels)
    (failure,) = finish(ship(plan, tmp_path / "out", store=store)).manifest.failed
    assert "has changed since it was surveyed" in failure.error
    # Undone: what was made of the other picture must not stand for this one.
    (root / "a_base.png").write_bytes(whole)
    (entry,) = finish(ship(plan, tmp_path / "out", store=store)).manifest.textures
    (fresh,) = finish(ship(plan, tmp_path / "fresh")).manifest.textures
    assert entry.output_hash == fresh.output_hash


def test_what_was_made_of_a_source_stays_while_that_cannot_be_read(tmp_path):
    root, out = tmp_path / "art", tmp_path / "out"
    for name in ("a_base.png", "b_base.png"):
        put(root, name)
    soundfile.write(root / "hum.wav", np.sin(np.arange(4000)) / 2, 8000)
    first = finish(ship(planned(root, "lounge"), out)).manifest
    whole = (root / "a_base.png").read_bytes()
    (root / "a_base.png").write_bytes(whole[:300])
    (root / "hum.wav").write_bytes(b"RIFF")
    again = finish(ship(planned(root, "lounge"), out))
    assert (again.written, again.unchanged, again.removed) == (0, 1, 0)
    assert (again.manifest.textures, again.manifest.sounds) == (first.textures, first.sounds)
    assert {row.source for row in again.manifest.failed} == {"a_base.png", "hum.wav"}
    assert all("what was made of it before stays" in row.error for row in again.manifest.failed)
    (root / "a_base.png").write_bytes(whole)
    (root / "hum.wav").unlink()
    last = finish(ship(planned(root, "lounge"), out))
    assert (last.unchanged, last.removed, last.manifest.failed) == (2, 1, ())
    # For another target it would be of another kind.
    (root / "a_base.png").write_bytes(whole[:300])
    assert [row.source for row in finish(ship(planned(root, "pocket"), out)).manifest.textures] == ["b_base.png"]


def test_threads_change_nothing(art, tmp_path):
    cut = Cut(SetFormat("bc1"), ("wall/brick_base.png", "wall/brick_n.png", "icon.tga"))
    for threads in (1, 3):
        finish(ship(planned(art, "lounge", cut), tmp_path / str(threads), threads=threads))
    one, three = ({name: data for name, (data, _) in tree(tmp_path / n).items()} for n in ("1", "3"))
    assert one == three


def test_blocks_of_a_container_are_shipped_as_they_are(art, tmp_path):
    first, root = tmp_path / "first", tmp_path / "again"
    finish(ship(planned(art, "lounge", Cut(SetFormat("bc1"), ("wall/brick_base.png",))), first))
    root.mkdir()
    (first / "wall" / "brick_base.dds").rename(root / "brick.dds")
    source = parse_texture((root / "brick.dds").read_bytes(), root / "brick.dds")
    finish(ship(planned(root, "lounge", Cut(Drop(2), ("brick.dds",))), tmp_path / "out"))
    got = parse_texture((tmp_path / "out" / "brick.dds").read_bytes(), root)
    assert got.levels == source.levels[2:]
    assert np.array_equal(decode_level(got).pixels, decode_level(source, 2).pixels)


def test_a_cube_is_weighed_shipped_and_cut_whole(tmp_path):
    faces = [finish(encode_texture(build_mip_chain(busy(64, 64, seed=s)), FORMATS["rgba8"])) for s in range(6)]
    (tmp_path / "art").mkdir()
    (tmp_path / "art" / "sky.dds").write_bytes(dds.pack(stack_textures(faces, 6)))
    whole = FORMATS["rgba8"].mip_chain_bytes(64, 64, 7, faces=6)
    plan = planned(tmp_path / "art", "lounge")
    assert plan.total("memory") == whole
    finish(ship(plan, tmp_path / "plain"))
    assert (tmp_path / "plain" / "sky.dds").read_bytes() == (tmp_path / "art" / "sky.dds").read_bytes()
    small = planned(tmp_path / "art", "lounge", Cut(Cap(32), ("sky.dds",)), Cut(SetFormat("bc1"), ("sky.dds",)))
    shipped = finish(ship(small, tmp_path / "cut"))
    assert small.total("memory") == FORMATS["bc1"].mip_chain_bytes(32, 32, 6, faces=6)
    assert shipped.statuses[0].value == small.total("memory")
    back = parse_texture((tmp_path / "cut" / "sky.dds").read_bytes(), tmp_path)
    for place, face in enumerate(faces):
        reference = resample(decode_level(face), 32, 32)
        others = [psnr_rgb(reference, decode_level(back, 0, k)) for k in range(6)]
        assert int(np.argmax(others)) == place, "each face stays in its place"
