"""Where a finding shows in a small picture: planted faults are marked, and nothing else."""

import msgspec
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oaktrim.core.survey.facts import TextureFacts
from oaktrim.core.survey.findings.marked import marked
from tests.kit.trees import put, surveyed

SIDE = 64
BLANK = TextureFacts("it.png", 0, 0, "", "png", SIDE, SIDE, 4, 8, False, 1, "", "")


def facts(root, pixels):
    put(root, "it_base.png", pixels)
    (texture,) = surveyed(root).textures
    return texture


def rgba(pixels):
    """The same as a small picture at full size."""
    alpha = pixels[..., 3:] if pixels.shape[-1] == 4 else np.full((*pixels.shape[:2], 1), 255, np.uint8)
    return np.ascontiguousarray(np.concatenate([pixels[..., :3], alpha], axis=-1))


@given(st.integers(0, 50), st.integers(0, 50), st.integers(1, 14), st.integers(1, 14))
def test_what_is_empty_is_all_but_the_part_in_use(left, top, wide, tall):
    pixels = np.zeros((SIDE, SIDE, 4), np.uint8)
    pixels[top : top + tall, left : left + wide] = 255
    texture = msgspec.structs.replace(BLANK, used=(left, top, wide, tall))
    mask = marked("mostly-empty", texture, pixels).mask
    assert (mask == (pixels[..., 3] == 0)).all()
    # At half the size, no pixel in use is marked.
    half = marked("mostly-empty", texture, np.ascontiguousarray(pixels[::2, ::2])).mask
    assert not half[pixels[::2, ::2, 3] > 0].any()


def test_a_seam_is_brought_to_the_middle(tmp_path):
    ramp = np.repeat(np.linspace(0, 255, SIDE).astype(np.uint8)[None, :, None], SIDE, axis=0).repeat(3, axis=2)
    found = marked("tiling-seam", facts(tmp_path, ramp), rgba(ramp))
    step = np.abs(np.diff(found.codes[..., 0].astype(int), axis=1)).max(axis=0)
    assert step.argmax() == SIDE // 2 - 1 and step.max() == 255
    assert found.mask[:, SIDE // 2 - 1 : SIDE // 2 + 1].all() and found.mask.mean() < 0.1
    assert sorted(found.codes[0, :, 0]) == sorted(ramp[0, :, 0]), "nothing is lost on the way"


def test_normals_of_another_length_are_marked(tmp_path):
    pixels = np.full((SIDE, SIDE, 3), (128, 128, 255), np.uint8)
    pixels[10:20, 30:50] = (128, 128, 180)
    mask = marked("normal-length", facts(tmp_path, pixels), rgba(pixels)).mask
    assert mask[10:20, 30:50].all() and mask.sum() == 200


def test_alpha_that_would_be_lost_is_marked(tmp_path):
    pixels = np.full((SIDE, SIDE, 4), 200, np.uint8)
    pixels[..., 3] = 255
    pixels[40:, :, 3] = np.arange(SIDE)
    assert (marked("alpha-lost", facts(tmp_path, pixels), pixels).mask == (pixels[..., 3] < 255)).all()


def test_baked_light_is_marked_where_it_is_off(tmp_path):
    rng = np.random.default_rng(3)
    ramp = np.exp2(-2.5 * np.linspace(0, 1, SIDE))[None, :, None]
    pixels = (rng.uniform(180, 250, (SIDE, SIDE, 1)) * ramp).astype(np.uint8).repeat(3, axis=2)
    mask = marked("baked-light", facts(tmp_path, pixels), rgba(pixels)).mask
    assert mask is not None and mask[:, : SIDE // 4].all() and not mask[:, SIDE // 4 + 1 : SIDE // 2].any()


@pytest.mark.parametrize("code", ["constant-image", "duplicate-pixels", "no-levels", "of-a-studio"])
def test_faults_of_the_whole_have_no_place(tmp_path, code):
    pixels = np.full((SIDE, SIDE, 4), 7, np.uint8)
    found = marked(code, facts(tmp_path, pixels), pixels)
    assert found.mask is None and found.codes is pixels
