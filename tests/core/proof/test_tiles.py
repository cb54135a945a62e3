"""What tiles say of choices before any is made: near to what comes out, also where a picture is mostly empty."""

import numpy as np
import pytest
from PIL import Image as PillowImage
from scipy.ndimage import gaussian_filter

from oaktrim.core.plan.budget import Choices
from oaktrim.core.plan.packing import CompressionRatios
from oaktrim.core.progress import finish
from oaktrim.core.proof.fit import _learn, recipe_of
from oaktrim.core.proof.measures import map_between, mean_square_between
from oaktrim.core.proof.problem import Bounds, pose
from oaktrim.core.proof.tiles import Clock, measure, sketch
from oaktrim.core.proof.trial import reference_for, try_recipe
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.roles import Role
from tests.kit.pictures import busy
from tests.kit.trees import planned, put


def _overlay(wide, high):
    """A small busy badge in a corner of nothing."""
    pixels = np.zeros((512, 512, 4), np.uint8)
    pixels[37 : 37 + high, 21 : 21 + wide] = busy(wide, high, 4, seed=5).pixels
    pixels[37 : 37 + high, 21 : 21 + wide, 3] = 255
    return pixels


@pytest.mark.parametrize("size", [(40, 30), (150, 60)])
def test_what_little_there_is_in_an_empty_picture_is_measured(tmp_path, size):
    put(tmp_path / "art", "badge_overlay.png", _overlay(*size))
    plan = planned(tmp_path / "art", "pocket")
    posed = pose(plan, CompressionRatios(plan.inventory), {"memory": 1}, np.zeros(1, np.bool_), Bounds())
    problem = finish(measure(posed, SurveyCache(tmp_path / "cache")))
    reference = reference_for(plan, 0, True)
    told, made = [], []
    for choice in range(0, len(problem.keys), 5):
        if problem.option(choice).side in (0, 256, 128):
            told.append(problem.jnd(choice))
            made.append(finish(try_recipe(plan, 0, recipe_of(problem, choice), reference)).quality.jnd)
    told, made = np.array(told), np.array(made)
    lost = made > 0.05
    assert lost.sum() >= 5
    assert np.median(told[lost] / made[lost]) == pytest.approx(1, abs=0.35)
    assert (told[lost] > 0.3 * made[lost]).all()


def test_guesses_move_towards_what_was_made_of_the_same_texture():
    choices = Choices(np.array([0, 3, 5]), np.array([1.0, 2, 4, 3, 6]), np.zeros((1, 5), np.int64))
    now = np.array([4.0, 2, 4, 3, 6])
    _learn(choices.loss, now, np.array([True, False, False, False, False]), choices)
    assert now[0] == 4
    # Four times the guess came out: one example moves the others by the root of that.
    assert now[1:3] == pytest.approx([4, 8])
    assert now[3:].tolist() == [3, 6], "another texture is another matter"


def test_a_first_look_tells_about_what_measuring_tells(demo_job, tmp_path):
    """Parts of each texture alone, and, where there was no time, what others of its role lose."""
    root = tmp_path / "art"
    root.mkdir()
    for name in ("kiosk/clapboard_base", "kiosk/roof_base", "boat/boat_base", "posts/post_base"):
        with PillowImage.open(demo_job.parent / "art" / f"{name}.png") as picture:
            picture.convert("RGB").resize((512, 512)).save(root / f"{name.partition('/')[2]}.png")
    plan = planned(root, "pocket")
    posed = pose(plan, CompressionRatios(plan.inventory), {"memory": 1}, np.zeros(4, np.bool_), Bounds())
    cache = SurveyCache(tmp_path / "cache")
    guessed = finish(sketch(posed, SurveyCache(tmp_path / "other")))
    measured = finish(measure(posed, cache))
    assert measured.measured.all() and not guessed.measured.any()
    some = measured.choices.loss > 1e-3
    off = np.abs(np.log2(guessed.choices.loss[some] / measured.choices.loss[some])) / 2
    assert some.sum() > 60 and np.median(off) < 0.3 and np.percentile(off, 90) < 1.0
    known = finish(sketch(posed, cache))
    assert known.choices.loss == pytest.approx(measured.choices.loss), "what was measured once is not guessed"
    late = finish(sketch(posed, SurveyCache(tmp_path / "late"), clock=Clock.within(0.0)))
    assert np.isfinite(late.choices.loss).all()
    first = posed.choices.first[:-1]
    assert (late.choices.loss[first] == 0).all() and (np.delete(late.choices.loss, first) > 0).all()


@pytest.mark.parametrize("kind", ["opaque", "with alpha", "normals", "masks"])
def test_the_quick_measure_is_that_of_the_map(kind):
    rng, role = np.random.default_rng(2), {"normals": Role.NORMAL, "masks": Role.MASK}.get(kind, Role.BASE_COLOUR)
    for blur in (0.0, 1.5, 6.0):
        a, noise = rng.random((128, 96, 4)), rng.normal(0, 0.1, (128, 96, 4))
        a = gaussian_filter(a, (3, 3, 0))
        b = np.clip(a + (gaussian_filter(noise, (blur, blur, 0)) * (1 + 3 * blur) if blur else noise), 0, 1)
        if kind == "with alpha":
            a[:, :48, 3] = b[:, :48, 3] = 0
        else:
            a[..., 3] = b[..., 3] = 1
        a, b = a.astype(np.float32), b.astype(np.float32)
        whole = float(np.mean(np.square(map_between(a, b, role), dtype=np.float64)))
        assert abs(np.log2(mean_square_between(a, b, role) / whole)) / 2 < 0.04
