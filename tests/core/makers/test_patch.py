"""Patches: what is used is found, cut out, and comes back to the pixel; places agree in every convention."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.kit.models import SQUARE, add_mesh, material, scene
from tests.kit.pictures import busy, noise
from tests.kit.trees import put, surveyed, write_model

from oaktrim.core.errors import Unsupported
from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.makers.patch.onmodel import model_pictures
from oaktrim.core.makers.patch.patch import (
    Patch,
    Rect,
    Snap,
    around,
    background_of,
    cut_out,
    islands,
    placement,
    prove_patch,
    put_back,
    snapped,
    tells_alpha,
    used_mask,
)
from oaktrim.core.pixels.image import Image
from oaktrim.core.progress import finish


def overlay(rects, size=(96, 64), channels=4, background=0):
    width, height = size
    pixels = np.full((height, width, channels), background, np.uint8)
    inside = noise(width, height, channels, seed=3).pixels
    for x, y, w, h in rects:
        pixels[y : y + h, x : x + w] = inside[y : y + h, x : x + w]
        if channels == 4:
            pixels[y : y + h, x : x + w, 3] = np.maximum(pixels[y : y + h, x : x + w, 3], 40)
    return Image.of(pixels)


def test_used_areas_are_found_by_alpha_and_by_colour():
    by_alpha = overlay([(10, 12, 20, 8), (60, 40, 5, 9)])
    assert tells_alpha(by_alpha)
    found = islands(used_mask(by_alpha, ()), 1)
    assert found == [Rect(10, 12, 20, 8), Rect(60, 40, 5, 9)]
    assert islands(used_mask(by_alpha, ()), 120) == [around(found)] == [Rect(10, 12, 55, 37)]
    green = overlay([(30, 20, 8, 8)], channels=3, background=0)
    green.pixels[...] = np.where(green.pixels.any(axis=2, keepdims=True), green.pixels, [10, 200, 30])
    assert background_of(green) == (10, 200, 30)
    mask = used_mask(green, background_of(green), tolerance=2)
    assert around(islands(mask, 1)) == Rect(30, 20, 8, 8)


def test_specks_and_steps_within_the_tolerance_do_not_count():
    image = overlay([(10, 10, 9, 9)])
    image.pixels[50, 80] = 255
    image.pixels[40:60, 20:40, 3] = 2
    assert islands(used_mask(image, (), tolerance=2, speck=4), 1) == [Rect(10, 10, 9, 9)]
    assert len(islands(used_mask(image, (), tolerance=1, speck=1), 1)) == 3


@settings(max_examples=80, deadline=None)
@given(
    st.integers(0, 90), st.integers(0, 58), st.integers(1, 40), st.integers(1, 30),
    st.sampled_from(list(Snap)), st.integers(0, 6),
)  # fmt: skip
def test_a_patch_comes_back_exactly_wherever_it_lies(x, y, w, h, snap, gutter):
    rect = Rect(x, y, min(w, 96 - x), min(h, 64 - y))
    image = overlay([(rect.x, rect.y, rect.width, rect.height)])
    mask = used_mask(image, (), tolerance=0, speck=1)
    used = around(islands(mask, 200))
    fitted = snapped(used, image.size, snap, gutter)
    if snap is Snap.POWER_OF_TWO:
        assert all(side & (side - 1) == 0 for side in (fitted.width, fitted.height))
    if snap is Snap.BLOCKS:
        assert fitted.width % 4 == 0 and fitted.height % 4 == 0
    assert fitted.holds(used)
    assert fitted.width >= used.width + 2 * gutter
    if fitted.width <= 96:
        assert fitted.x >= 0 and fitted.right <= 96
    patch = cut_out(image, fitted)
    proof = prove_patch(image, patch, fitted, mask)
    assert proof.exact and proof.used == int(mask.sum())
    np.testing.assert_array_equal(put_back(patch, fitted, image.size).pixels, image.pixels)


def test_a_rectangle_that_loses_something_is_told():
    image = overlay([(10, 10, 20, 10)])
    mask = used_mask(image, ())
    small = Rect(12, 10, 10, 10)
    proof = prove_patch(image, cut_out(image, small), small, mask)
    assert proof.lost == 100 and not proof.exact
    worse = cut_out(image, Rect(10, 10, 20, 10))
    off = worse.with_pixels(np.clip(worse.pixels.astype(int) + 3, 0, 255).astype(np.uint8))
    assert prove_patch(image, off, Rect(10, 10, 20, 10), mask).largest == 3


def test_places_agree_in_every_convention():
    rect, size = Rect(24, 40, 32, 16), (128, 64)
    found = placement(rect, size)
    top, bottom = found["from_top_left"], found["from_bottom_left"]
    assert top["pixels"] == {"x": 24, "y": 40, "width": 32, "height": 16}
    assert bottom["pixels"] == {"x": 24, "y": 8, "width": 32, "height": 16}
    assert top["normalised"] == {"x": 0.1875, "y": 0.625, "width": 0.25, "height": 0.25}
    for part, corner in ((top, (24, 40)), (bottom, (24, 8))):
        uv = part["uv"]
        start = np.array(corner) / size
        end = start + np.array([32, 16]) / size
        scale, offset = np.array(uv["to_patch_scale"]), np.array(uv["to_patch_offset"])
        np.testing.assert_allclose(start * scale + offset, 0, atol=1e-12)
        np.testing.assert_allclose(end * scale + offset, 1, atol=1e-12)
        there = np.array([0.3, 0.7]) * uv["to_overlay_scale"] + uv["to_overlay_offset"]
        np.testing.assert_allclose(there * scale + offset, [0.3, 0.7], atol=1e-12)


def test_what_has_no_pixels_is_refused():
    with pytest.raises(ValueError, match="at least one pixel"):
        Rect(0, 0, 0, 4)
    assert islands(np.zeros((4, 4), np.bool_), 1) == []
    assert not tells_alpha(busy(8, 8, 3))


def test_a_background_of_another_kind_of_picture_is_refused_and_codes_beyond_the_range_are_cut():
    image = overlay([(10, 10, 8, 8)])
    for work in (lambda b: cut_out(image, Rect(0, 0, 8, 8), b), lambda b: used_mask(image, b)):
        with pytest.raises(Unsupported, match="background has 3 values, and the overlay 4 channels"):
            work((0.0, 0.0, 0.0))
    beyond = cut_out(image, Rect(-4, -4, 8, 8), (-1.0, 300.0, 255.0, 65536.0))
    assert beyond.pixels[0, 0].tolist() == [0, 255, 255, 255]


def test_the_model_looks_the_same_with_the_patch_as_with_the_whole_overlay(tmp_path):
    """A mark laid over a wall: through the patch, clamped and moved, every pixel is within a code or two."""
    mark = np.zeros((128, 128, 4), np.uint8)
    mark[40:72, 64:112] = (230, 40, 30, 255)
    put(tmp_path, "mark.png", mark)
    put(tmp_path, "wall.png", np.full((64, 64, 3), (40, 70, 200), np.uint8))
    writer = GltfWriter()
    wall = add_mesh(writer, material(writer, "wall", baseColorTexture=writer.image("wall.png")))
    over = material(writer, "mark", baseColorTexture=writer.image("mark.png"))
    writer.json["materials"][over]["alphaMode"] = "BLEND"
    laid = add_mesh(writer, over, points=SQUARE)
    scene(writer, writer.add("nodes", mesh=wall), writer.add("nodes", mesh=laid))
    write_model(tmp_path, "shed.glb", writer)
    inventory = surveyed(tmp_path)
    patch = Patch(source="mark.png", name="mark_patch", rect=Rect(60, 36, 56, 40))
    made = model_pictures(inventory, patch, inventory.sources(1 << 24), FORMATS["rgba8"], 200)
    before, after = (codes.astype(int) for codes in finish(made))
    red = before[..., 0] > before[..., 2] + 60
    assert 0.04 < red.mean() < 0.2, "the mark is seen, on a wall that is seen too"
    assert (before[..., 2] > before[..., 0] + 60).mean() > 0.2
    assert np.abs(before - after).max() <= 3
    elsewhere = Patch(source="mark.png", name="mark_patch", rect=Rect(0, 0, 60, 36))
    missed = finish(model_pictures(inventory, elsewhere, inventory.sources(1 << 24), FORMATS["rgba8"], 200))[1]
    assert not (missed[..., 0].astype(int) > missed[..., 2].astype(int) + 60).any()
