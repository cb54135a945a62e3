"""Roles guessed from pixels, from what stands beside a picture, and from folders; and questions asked of look-alikes."""

import numpy as np
import pytest

from oaktrim.core.files.pictures import write_png
from oaktrim.core.job.document import new_job
from oaktrim.core.makers.build import survey_tree
from oaktrim.core.pixels.image import Image
from oaktrim.core.plan.lookalikes import known, look_alikes, pattern_for
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.progress import finish
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.guesses import Content, content_of
from oaktrim.core.survey.roles import Certainty, Role, RolePattern, role_guesser
from oaktrim.core.targets.target import target_named
from tests.kit.pictures import flat
from tests.kit.trees import surveyed

SIDE = 64
Y, X = np.mgrid[0:SIDE, 0:SIDE] / SIDE


def codes(*planes):
    return Image.of((np.clip(np.stack(planes, axis=-1), 0, 1) * 255).round().astype(np.uint8))


def waves(seed, scale=6.0):
    rng = np.random.default_rng(seed)
    a, b, start = rng.uniform(0.5, 1, 3)
    return 0.5 + 0.3 * np.sin(scale * (a * X + b * Y) * 6 + 6 * start) + rng.normal(0, 0.03, (SIDE, SIDE))


def photograph(seed=1):
    """Brightness that all channels follow, over a tint."""
    light = waves(seed)
    return codes(light * 0.9, light * 0.7 + 0.05, light * 0.4)


def cut_out(seed=1):
    light = waves(seed)
    return codes(light * 0.9, light * 0.7, light * 0.4, (np.hypot(X - 0.5, Y - 0.5) < 0.3).astype(float))


def grey(seed=1):
    light = waves(seed)
    return codes(light, light, light)


def two_tone():
    on = ((X * 8).astype(int) % 2).astype(float)
    return codes(on, on, on)


def directions(steep=0.4, green=1.0):
    x, y = steep * np.sin(12 * X), green * steep * np.cos(9 * Y)
    z = np.sqrt(np.maximum(0.05, 1 - x * x - y * y))
    return codes((x + 1) / 2, (y + 1) / 2, (z + 1) / 2)


def packed():
    """Occlusion, roughness and yes-or-no metalness."""
    return codes(0.8 + 0.2 * waves(3), waves(4, 15.0), (waves(5) > 0.6).astype(float))


def shape():
    return codes(*[np.ones((SIDE, SIDE))] * 3, (np.hypot(X - 0.5, Y - 0.5) < 0.3).astype(float))


KINDS = [
    (photograph(), Content.COLOUR, Role.BASE_COLOUR), (cut_out(), Content.CUT_OUT, Role.BASE_COLOUR),
    (grey(), Content.GREY, Role.UNKNOWN), (two_tone(), Content.TWO_TONE, Role.MASK),
    (directions(), Content.VECTORS, Role.NORMAL), (directions(green=-1.0), Content.VECTORS, Role.NORMAL),
    (packed(), Content.VALUES, Role.SURFACE), (shape(), Content.SHAPE, Role.UNKNOWN),
    (flat((90, 20, 10), 32, 32), Content.PLAIN, Role.UNKNOWN), (codes(*[X[:2]] * 3), Content.RAMP, Role.LOOKUP),
]  # fmt: skip


@pytest.mark.parametrize("place", range(len(KINDS)))
def test_what_pixels_show(tmp_path, place):
    image, content, role = KINDS[place]
    write_png(tmp_path / "thing.png", image)
    inventory = surveyed(tmp_path)
    (texture,), (guess,) = inventory.textures, inventory.roles
    assert content_of(texture) is content and guess.role is role
    assert guess.certainty is (Certainty.UNKNOWN if role is Role.UNKNOWN else Certainty.GUESSED)


def roles_in(root):
    inventory = surveyed(root)
    return {t.path: g.role for t, g in zip(inventory.textures, inventory.roles, strict=True)}, inventory


def put(root, path, image):
    file = root / path
    file.parent.mkdir(parents=True, exist_ok=True)
    write_png(file, image)


def test_what_stands_beside_a_picture_tells_what_its_pixels_do_not(tmp_path):
    put(tmp_path, "wall.png", photograph(1))
    put(tmp_path, "wall_polish.png", grey(2))
    put(tmp_path, "lone_polish.png", grey(3))
    put(tmp_path, "lamp.png", photograph(4))
    put(tmp_path, "lamp_lit.png", codes(*[(X > 0.95).astype(float)] * 3))
    found, _ = roles_in(tmp_path)
    assert found["wall_polish.png"] is Role.SURFACE and found["lone_polish.png"] is Role.UNKNOWN
    assert found["lamp_lit.png"] is Role.EMISSIVE


def test_six_faces_are_a_sky_whatever_their_letters_are_called(tmp_path):
    for number, face in enumerate("neswtb"):
        put(tmp_path, f"dusk_{face}.png", photograph(number))
    put(tmp_path, "rock_n.png", photograph(9))
    found, _ = roles_in(tmp_path)
    assert {found[f"dusk_{face}.png"] for face in "neswtb"} == {Role.ENVIRONMENT}
    assert found["rock_n.png"] is Role.NORMAL, "a name of its own still counts"


def test_words_of_folders_and_the_company_of_many(tmp_path):
    put(tmp_path, "gui/arrow.png", cut_out(1))
    for number in range(9):
        put(tmp_path, f"rocks/r{number}x.png", photograph(number))
    put(tmp_path, "rocks/slate.png", grey(20))
    found, inventory = roles_in(tmp_path)
    assert found["gui/arrow.png"] is Role.OVERLAY
    assert found["rocks/slate.png"] is Role.BASE_COLOUR
    assert "nearly all beside it" in inventory.roles[inventory.row_of["rocks/slate.png"]].reason


@pytest.fixture
def sets(tmp_path):
    """Ten folders of one colour, one grey picture and one normal map each, all called by a letter."""
    for number in range(10):
        put(tmp_path, f"set{number}/c.png", photograph(number))
        put(tmp_path, f"set{number}/f.png", grey(number + 30))
        put(tmp_path, f"set{number}/h.png", directions(0.2 + number / 40))
    return tmp_path


def test_one_question_for_a_name_in_many_folders_and_its_answer_is_a_pattern(sets):
    _, inventory = roles_in(sets)
    plan = resolve(inventory, target_named("pocket"))
    groups = look_alikes(plan)
    asked = {group.where: group for group in groups}
    assert set(asked) == {"named c", "named f", "named h"}
    group = asked["named f"]
    assert group.words == "10 grey pictures named f" and group.role is Role.UNKNOWN
    assert group.question.startswith("10 grey pictures named f: height, mask") and len(group.paths) == 10
    assert [row.memory for row in groups] == sorted((row.memory for row in groups), reverse=True)
    before = known(plan)
    assert before.unknown == group.memory and before.told == 0
    job, pattern = new_job(sets).with_answer(group, Role.HEIGHT, inventory)
    assert pattern == "f" == pattern_for(inventory, group) and job.role_patterns[-1] == RolePattern("f", Role.HEIGHT)
    told = finish(survey_tree(sets, job.scan_settings, job.build_spec, SurveyCache())).inventory
    assert {g.role for t, g in zip(told.textures, told.roles, strict=True) if t.path.endswith("f.png")} == {Role.HEIGHT}
    assert known(resolve(told, target_named("pocket"))).told == group.memory


def test_where_no_pattern_fits_the_answer_is_kept_by_paths(tmp_path):
    for number in range(4):
        put(tmp_path, f"a{number}/x.png", photograph(number))
        put(tmp_path, f"b{number}/x.png", grey(number))
    _, inventory = roles_in(tmp_path)
    groups = {group.content: group for group in look_alikes(resolve(inventory, target_named("pocket")))}
    job, pattern = new_job(tmp_path).with_answer(groups[Content.GREY], Role.MASK, inventory)
    assert pattern == "" and set(job.roles[0].assets) == set(groups[Content.GREY].paths)


def test_patterns_with_a_slash_are_of_paths():
    ask = role_guesser((RolePattern("*_n", Role.NORMAL), RolePattern("art/gui/*", Role.OVERLAY)))
    assert ask("Art/GUI/deep/Arrow.png").role is Role.OVERLAY and ask("art/gui/rock_n.png").role is Role.NORMAL
    assert ask("art/guide/x.png").role is Role.UNKNOWN
