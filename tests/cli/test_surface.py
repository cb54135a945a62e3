"""`oak-trim surface` from the command line."""

import json

import numpy as np
import pytest

from oaktrim.core.files.pictures import read_picture, write_exr, write_png
from oaktrim.core.pixels.codes import Transfer
from oaktrim.core.pixels.detail import seam_ratio
from oaktrim.core.pixels.image import Image
from tests.cli.test_commands import run
from tests.core.makers.test_surface import paint, picture


@pytest.mark.slow
def test_pictures_are_written_with_what_was_measured(tmp_path):
    source, normal = tmp_path / "wall.png", tmp_path / "wall_n.png"
    write_png(
        source,
        picture(paint(3, "spots", 300)[:180, :200] * np.exp2(np.linspace(-1.2, 0, 200))[None, :, None], np.uint16),
    )
    write_png(normal, Image.of(np.tile(np.array([128, 128, 255], np.uint8), (90, 100, 1))))
    out = tmp_path / "out"
    before = source.read_bytes()
    got = json.loads(
        run(
            "surface",
            source,
            "--flatten",
            1,
            "--calm",
            0.2,
            "--tile",
            "both",
            "--with",
            normal,
            "--out",
            out,
            "--as",
            "json",
        )
    )
    (row,) = got
    assert (
        row["before"]["seam"] > 1.5 > row["after"]["seam"]
        and row["after"]["shading_stops"] < row["before"]["shading_stops"]
    )
    assert row["after"]["spread"] < 0.22 and len(row["cuts"]["across"]) > 10 and source.read_bytes() == before
    made = read_picture(out / "wall.png")
    assert made.size == (200, 180) and made.bit_depth == 16 and max(seam_ratio(made)) < 1.6
    assert read_picture(out / "wall_n.png").size == (100, 90)
    words = run("surface", source, "--wrap", "x", "--out", out)
    assert "seam" in words and "good enough" in words
    assert "say what to do" in run("surface", source, "--out", out, status=2)
    assert "would be written over" in run("surface", source, "--flatten", 1, "--out", tmp_path, status=2)
    assert "give one of them" in run("surface", source, "--tile", "x", "--wrap", "x", "--out", out, status=2)
    held = tmp_path / "held.exr"
    write_exr(held, Image((paint(2, "grain", 96) * 5).astype(np.float16), ("R", "G", "B"), Transfer.LINEAR))
    run("surface", held, "--flatten", 1, "--tile", "x", "--out", out)
    back = read_picture(out / "held.exr")
    assert back.pixels.dtype == np.float16 and back.size == (96, 96) and back.pixels.max() > 1.5
    torn = tmp_path / "torn.png"
    torn.write_bytes(source.read_bytes()[:60])
    assert "torn.png" in run("surface", torn, "--flatten", 1, "--out", out, status=2)
    write_png(tmp_path / "dot.png", picture(paint(1, "grain")[:4, :4]))
    assert "too small" in run("surface", tmp_path / "dot.png", "--tile", "x", "--out", out, status=2)


def test_an_upload_is_rehearsed_beside_a_cut_of_the_same_size(tmp_path):
    art = tmp_path / "art"
    art.mkdir()
    write_png(art / "wide_base.png", picture(paint(3, "bricks", 300)[:180, :300]))
    write_png(art / "fits_base.png", picture(paint(4, "grain", 128)))
    rows = json.loads(run("rehearse", art, "--target", "visor", "--as", "json"))
    (row,) = rows
    assert row["path"] == "wide_base.png" and row["sent"] == [300, 180] and row["becomes"] == [256, 128]
    assert row["format"] == "astc-6x6" and 0 < row["by_hand_jnd"] <= row["upload_jnd"] * 1.02
    assert "enough" in run("rehearse", art, "--target", "visor", "--where", "fits")
    assert "takes all of them as they are" in run("rehearse", art, "--target", "lounge")


@pytest.mark.slow
def test_near_same_textures_are_listed_and_shared(tmp_path):
    art = tmp_path / "art"
    art.mkdir()
    image = picture(np.clip(paint(5, "spots") * np.linspace(0.5, 1.5, 256)[None, :, None], 0, 1))
    write_png(art / "a_base.png", image)
    write_png(art / "b_base.png", Image.of(np.ascontiguousarray(image.pixels[::-1])))
    job = tmp_path / "job.oak"
    run("job", "new", art, "--out", job)
    assert "1. a_base.png could serve b_base.png (mirrored): saves" in run("sharing", job)
    (row,) = json.loads(run("sharing", art, "--as", "json"))
    assert row["share"]["others"][0]["down"] is True
    assert "a_base_shared: a_base.png for 2" in run("sharing", job, "--accept", 1)
    assert "No textures are nearly the same" in run("sharing", job)
    assert "groups 1 to 0" in run("sharing", job, "--accept", 1, status=2)
    assert "kept in a job" in run("sharing", art, "--accept", 1, status=2)
