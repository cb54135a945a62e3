"""What tiles say of choices before any is made: near to what comes out, also where a picture is mostly empty."""

import numpy as np
import pytest

from oaktrim.core.plan.budget import Choices
from oaktrim.core.plan.packing import PackedShares
from oaktrim.core.progress import finish
from oaktrim.core.proof.fit import _learn, recipe_of
from oaktrim.core.proof.problem import pose
from oaktrim.core.proof.tiles import measure
from oaktrim.core.proof.trial import reference_for, try_recipe
from oaktrim.core.survey.cache import SurveyCache
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
    posed = pose(plan, PackedShares(plan.inventory), {"memory": 1}, np.zeros(1, np.bool_), {})
    problem = finish(measure(posed, SurveyCache(tmp_path / "cache")))
    reference = reference_for(plan.inventory, 0, True)
    told, made = [], []
    for choice in range(0, len(problem.keys), 5):
        if problem.option(choice).side in (0, 256, 128):
            told.append(problem.steps(choice))
            made.append(finish(try_recipe(plan, 0, recipe_of(problem, choice), reference)).quality.steps)
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
