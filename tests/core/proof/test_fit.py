"""Fit to budget on real pictures: what is proposed meets the limits when it is shipped, and is the same each time."""

import msgspec
import numpy as np
import pytest
from PIL import Image as PillowImage

from oaktrim.core.codecs.effort import Effort
from oaktrim.core.formats.catalogue import FORMATS
from oaktrim.core.job.document import new_job
from oaktrim.core.plan.cuts import Cap, SetEffort, SetFormat, SetLoss, thing_of
from oaktrim.core.plan.formatrules import FormatRule, Rules
from oaktrim.core.plan.packing import CompressionRatios, measured_before
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.progress import finish
from oaktrim.core.proof.fit import Basis, Fit, fit, propose, why, with_fit
from oaktrim.core.proof.problem import Bounds, Exchange, bounds_of, pose
from oaktrim.core.proof.trial import candidates, pareto_front, reference_for, try_recipe
from oaktrim.core.ship.run import ship
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.roles import Role
from oaktrim.core.survey.scan import scan
from oaktrim.core.targets.target import target_named
from tests.core.plan.test_soundrules import put_sound
from tests.core.trim.test_model import snake
from tests.kit.pictures import busy, smooth
from tests.kit.trees import planned, put, write_model

TARGET = target_named("pocket")


@pytest.fixture(scope="module")
def art(tmp_path_factory):
    root = tmp_path_factory.mktemp("fit") / "art"
    put(root, "wall_base.png", busy(256, 256, 3, seed=1).pixels)
    put(root, "fog_base.png", smooth(256, 256, 3).pixels)
    put(root, "again/fog_base.png", smooth(256, 256, 3).pixels)
    put(root, "leaf_base.png", busy(128, 128, 4, seed=2).pixels)
    normals = np.random.default_rng(0).normal((0, 0, 1), 0.1, (128, 128, 3))
    normals /= np.linalg.norm(normals, axis=2, keepdims=True)
    put(root, "wall_n.png", np.rint((normals * 0.5 + 0.5) * 255).astype(np.uint8))
    put(root, "wall_rough.png", busy(256, 256, 1, seed=3).pixels)
    PillowImage.fromarray(busy(200, 120, 3, seed=4).pixels).save(root / "sign_base.jpg", quality=95)
    return root


def proposed(root, cache, limits, locked=(), floors=None, effort=None):
    inventory = finish(scan(root, new_job(root).scan_settings, cache))
    ratios = CompressionRatios(inventory).merged(measured_before(cache))
    plan = resolve(inventory, TARGET, (), ratios)
    column = np.array([texture.path in locked for texture in inventory.textures])
    return plan, finish(propose(plan, ratios, cache, limits, column, Bounds(floors or {}), effort=effort))


def cut_by(root, found):
    return with_fit(new_job(root), found, found.changed()).cuts


def test_limits_are_met_to_the_byte_when_shipped(art, tmp_path):
    cache = SurveyCache(tmp_path / "cache")
    limits = {"memory": 200_000, "package": 90_000, "streaming": 180_000}
    _, found = proposed(art, cache, limits)
    after = planned(art, TARGET, *cut_by(art, found))
    shipped = finish(ship(after, tmp_path / "out"))
    weighed = {status.line.name: status.value for status in shipped.statuses}
    for line, limit in limits.items():
        assert weighed[line] == found.problem.total(found.solution.picks, line) <= limit
    assert not shipped.manifest.failed
    assert found.problem.exact[found.solution.picks].all()
    # Warm or cold, the same is proposed.
    for place in ("cache", "other"):
        _, again = proposed(art, SurveyCache(tmp_path / place), limits)
        assert cut_by(art, again) == cut_by(art, found)


def test_more_room_never_looks_worse(art, tmp_path):
    cache = SurveyCache(tmp_path / "cache")
    loss = [proposed(art, cache, {"memory": room})[1].solution.loss for room in (60_000, 120_000, 300_000, 10_000_000)]
    assert loss == sorted(loss, reverse=True)
    assert loss[-1] < 1e-6
    assert not proposed(art, cache, {"memory": 10_000_000})[1].changed()


def test_what_is_locked_stays_and_floors_hold(art, tmp_path):
    cache = SurveyCache(tmp_path / "cache")
    _, found = proposed(art, cache, {"memory": 420_000}, ("wall_base.png",), {Role.ROUGHNESS: 256})
    cuts = cut_by(art, found)
    assert not any("wall_base.png" in cut.assets for cut in cuts)
    assert not any("wall_rough.png" in cut.assets for cut in cuts if isinstance(cut.change, Cap))
    twins = [cut for cut in cuts if "fog_base.png" in cut.assets]
    assert twins
    assert all("again/fog_base.png" in cut.assets for cut in twins), "the same pixels decide as one"
    assert all(len(why(found, group)) > 20 for group in found.changed())


def test_a_limit_that_cannot_be_met_is_named(art, tmp_path):
    cache = SurveyCache(tmp_path / "cache")
    plan, found = proposed(art, cache, {"memory": 420_000, "package": 9_000_000}, ("wall_base.png",))
    assert found.solution is not None
    lone = int(plan.footprint.memory[plan.inventory.row_of["wall_base.png"]])
    _, found = proposed(art, cache, {"memory": lone, "package": 9_000_000}, ("wall_base.png",))
    assert found.solution is None
    assert list(found.missing) == ["memory"]
    assert found.changed() == []


def test_where_the_package_is_limited_quality_goes_for_the_download(demo_job, tmp_path):
    """Memory has room: what must go is given up where memory cannot tell, and what is proposed really packs as small."""
    root, limit = tmp_path / "boards", 75_000
    root.mkdir()
    for name in ("kiosk/clapboard_base", "kiosk/roof_base", "boat/boat_base", "posts/post_base"):
        with PillowImage.open(demo_job.parent / "art" / f"{name}.png") as picture:
            picture.convert("RGB").resize((256, 256)).save(root / f"{name.partition('/')[2]}.png")
    cache = SurveyCache(tmp_path / "cache")
    assert not proposed(root, cache, {"package": 10_000_000})[1].changed()
    _, found = proposed(root, cache, {"package": limit})
    assert {cut.change.decibels for cut in cut_by(root, found) if isinstance(cut.change, SetLoss)} == {1.0}
    assert found.solution.gap < 0.005
    problem = found.problem
    lossy = np.array([problem.option(choice).loss > 0 for choice in range(len(problem.keys))])
    plain = fit(problem.with_losses(np.where(lossy, 1e12, problem.choices.loss))).solution
    assert plain is None or plain.loss > found.solution.loss
    shipped = finish(ship(planned(root, TARGET, *cut_by(root, found)), tmp_path / "out"))
    weighed = next(status.value for status in shipped.statuses if status.line.name == "package")
    assert weighed == problem.total(found.solution.picks, "package") <= limit


def test_an_effort_can_be_asked_for(art, tmp_path):
    _, found = proposed(art, SurveyCache(tmp_path / "cache"), {"memory": 100_000}, effort=Effort.DRAFT)
    efforts = [cut for cut in cut_by(art, found) if isinstance(cut.change, SetEffort)]
    changed = {path for cut in cut_by(art, found) for path in cut.assets}
    assert [cut.change.effort for cut in efforts] == [Effort.DRAFT] and set(efforts[0].assets) == changed


def test_hand_cuts_for_other_targets_stay(art, tmp_path):
    _, found = proposed(art, SurveyCache(tmp_path / "cache"), {"memory": 100_000})
    job = msgspec.structs.replace(new_job(art))
    after = with_fit(job, found, found.changed())
    assert {cut.targets for cut in after.cuts} == {("pocket",)}
    kinds = {type(cut.change) for cut in after.cuts}
    assert kinds <= {Cap, SetFormat}
    some = with_fit(job, found, found.changed()[:1])
    assert len({path for cut in some.cuts for path in cut.assets}) in (1, 2), "only what is accepted is cut"


def test_choices_begin_with_what_ships_now(art):
    plan = planned(art, TARGET)
    locked = np.zeros(len(plan.formats), np.bool_)
    problem = pose(plan, CompressionRatios(plan.inventory), {"memory": 1, "unpacked": 1}, locked, Bounds())
    picks = problem.choices.first[:-1]
    assert problem.total(picks, "memory") == plan.total("memory")
    assert problem.total(picks, "unpacked") == plan.total("unpacked")
    with_alpha = plan.inventory.row_of["leaf_base.png"]
    group = next(g for g in problem.groups if with_alpha in g.rows)
    assert "etc2-rgb" not in {option.format for option in group.options}, "alpha is not given up unasked"


def test_candidates_are_what_the_target_has_and_cost_what_ships(art):
    plan = planned(art, TARGET)
    row = plan.inventory.row_of["wall_base.png"]
    found = candidates(plan, row)
    fitting = [c for c in found if not c.against]
    assert {c.recipe.settings.width for c in fitting} == {256, 128, 64}
    assert all(TARGET.decodes(FORMATS[c.recipe.settings.format]) for c in fitting)
    absent = [c for c in found if "hardware" in c.against]
    assert {c.recipe.settings.format for c in absent} >= {"bc7"}
    assert all(c.memory == plan.footprint.memory[row] for c in absent), "what is not decoded costs raw pixels"
    trial = finish(try_recipe(plan, row, fitting[0].recipe, reference_for(plan, row)))
    assert trial.memory == fitting[0].memory
    assert trial.package > 0
    assert trial.quality.jnd > 0
    costs, jnd = [4, 3, 2, 1, 2], [0.0, 1.0, 1.0, 5.0, 0.5]
    assert pareto_front(costs, jnd) == [3, 4, 0]


def test_nothing_is_offered_that_the_container_cannot_hold(art):
    plan = planned(art, "lounge")
    assert plan.target.container == "dds"
    problem = pose(
        plan, CompressionRatios(plan.inventory), {"memory": 1}, np.zeros(len(plan.formats), np.bool_), Bounds()
    )
    named = {option.format for group in problem.groups for option in group.options}
    named |= {
        c.recipe.settings.format for row in range(len(plan.formats)) for c in candidates(plan, row) if not c.against
    }
    assert "bc7" in named
    assert all(FORMATS[name].dxgi is not None for name in named)


def test_pictures_that_are_all_alike_to_the_eye_are_settled_too(tmp_path, monkeypatch):
    """Flat pictures lose nothing whatever they ship as: many rounds of equal choices, and the limit must still hold."""
    for number in range(4):
        put(tmp_path / "art", f"flat{number}_base.png", np.full((128, 128, 3), 40 * number + 7, np.uint8))
    put(tmp_path / "art", "busy_base.png", busy(128, 128, 3).pixels)
    monkeypatch.setattr("oaktrim.core.proof.fit._ROUNDS", 1)
    limits = {"memory": 60_000, "package": 9_000}
    _, found = proposed(tmp_path / "art", SurveyCache(tmp_path / "cache"), limits)
    assert found.problem.exact[found.solution.picks].all()
    shipped = finish(ship(planned(tmp_path / "art", TARGET, *cut_by(tmp_path / "art", found)), tmp_path / "out"))
    weighed = {status.line.name: status.value for status in shipped.statuses}
    for line, limit in limits.items():
        assert weighed[line] == found.problem.total(found.solution.picks, line) <= limit


def test_answers_come_early_and_get_better(art, tmp_path, monkeypatch):
    """From samples first, then measured; the last is the one that is found when all is measured at once."""
    limits = {"memory": 120_000}
    _, whole = proposed(art, SurveyCache(tmp_path / "whole"), limits)
    monkeypatch.setattr("oaktrim.core.proof.fit._MANY", 0)
    monkeypatch.setattr("oaktrim.core.proof.fit._LEAST_BATCH", 2)
    cache = SurveyCache(tmp_path / "cache")
    inventory = finish(scan(art, new_job(art).scan_settings, cache))
    ratios = CompressionRatios(inventory)
    plan, answers = resolve(inventory, TARGET, (), ratios), []
    task = propose(plan, ratios, cache, limits, np.zeros(len(plan.formats), np.bool_), Bounds())
    found = finish(task, lambda step: answers.append(step.found) if isinstance(step.found, Fit) else None)
    assert [answer.basis for answer in answers[:2]] == [Basis.SAMPLES, Basis.SAMPLES]
    assert found.basis is Basis.MADE and found.unmade == 0
    assert cut_by(art, found) == cut_by(art, whole)
    assert found.solution.loss == pytest.approx(whole.solution.loss)
    true = whole.problem.choices.loss
    losses = [float(true[answer.solution.picks].sum()) for answer in (answers[0], found)]
    assert losses[1] <= losses[0] + 1e-9, "what is really lost does not grow"
    for answer in answers:
        assert answer.problem.total(answer.solution.picks, "memory") <= limits["memory"]


@pytest.mark.parametrize("within", [0.0, 0.5])
def test_an_answer_in_time_meets_the_limits_and_says_what_it_is_known_from(art, tmp_path, within):
    cache, limits = SurveyCache(tmp_path / "cache"), {"memory": 120_000, "package": 60_000}
    inventory = finish(scan(art, new_job(art).scan_settings, cache))
    ratios = CompressionRatios(inventory)
    plan = resolve(inventory, TARGET, (), ratios)
    found = finish(propose(plan, ratios, cache, limits, np.zeros(len(plan.formats), np.bool_), Bounds(), within=within))
    assert found.basis is not Basis.MADE and found.unmade > 0
    for line, limit in limits.items():
        assert found.problem.total(found.solution.picks, line) <= limit
    after = planned(art, TARGET, *cut_by(art, found))
    assert after.total("memory") == found.problem.total(found.solution.picks, "memory")


def test_by_the_rules_only_sizes_are_decided_and_less_is_measured(art, tmp_path):
    inventory = finish(scan(art, new_job(art).scan_settings, SurveyCache(tmp_path / "cache")))
    rules = (FormatRule(Role.BASE_COLOUR, "astc-6x6"), FormatRule(Role.NORMAL, "astc-5x5"))
    ratios = CompressionRatios(inventory)
    plan = resolve(inventory, TARGET, (), ratios, Rules((), rules))
    none = np.zeros(len(plan.formats), np.bool_)
    free, ruled = (pose(plan, ratios, {"memory": 50_000}, none, bounds_of((), TARGET, by)) for by in (False, True))
    assert len(ruled.keys) < len(free.keys) / 3
    for group in ruled.groups:
        role = inventory.roles[group.rows[0]].role
        wanted = {Role.BASE_COLOUR: {"astc-6x6"}, Role.NORMAL: {"astc-5x5"}}.get(role)
        assert wanted is None or {option.format for option in group.options} == wanted


@pytest.fixture(scope="module")
def build(tmp_path_factory):
    """Textures, two sounds and a clip, all of which could give something up."""
    root = tmp_path_factory.mktemp("fit") / "art"
    put(root, "wall_base.png", busy(256, 256, 3, seed=1).pixels)
    put_sound(root, "music/theme.wav", seconds=8, seed=1)
    put_sound(root, "door.wav", seconds=1, seed=2)
    write_model(root, "snake.glb", snake())
    put(root, "wood_base.png", busy(64, 64, 3, seed=2).pixels)
    return root


def fitted(root, cache, limits, exchange, locked=False):
    inventory = finish(scan(root, new_job(root).scan_settings, cache))
    ratios = CompressionRatios(inventory).merged(measured_before(cache))
    plan = resolve(inventory, TARGET, (), ratios)
    column = np.full(len(inventory.textures), locked)
    found = finish(propose(plan, ratios, cache, limits, column, Bounds(exchange=exchange)))
    job = new_job(root) if found.solution is None else with_fit(new_job(root), found, found.changed())
    return found, job, resolve(inventory, TARGET, job.cuts, ratios)


def test_sounds_and_clips_give_way_beside_textures_by_the_exchange_rate(build, tmp_path):
    cache, limits = SurveyCache(tmp_path / "cache"), {"package": 150_000}
    cheap, job, plan = fitted(build, cache, limits, Exchange(0.01, 0.01))
    assert {group.path for group, _ in cheap.others()} >= {"door.wav", "music/theme.wav"}
    assert {thing_of(type(cut.change)) for cut in job.cuts} >= {"sound", "texture"}
    finish(ship(plan, tmp_path / "out"))
    shipped = finish(ship(plan, tmp_path / "out"))
    package = sum(row.package for rows in (shipped.manifest.textures, shipped.manifest.sounds) for row in rows)
    assert package + sum(row.package for row in shipped.manifest.models) <= 150_000
    dear, _, _ = fitted(build, cache, {"package": 1_600_000}, Exchange(1000.0, 1000.0))
    loss = [sum(option.steps for _, option in found.others()) for found in (cheap, dear)]
    assert loss[0] > loss[1] and not cheap.missing and not dear.missing
    free, _, _ = fitted(build, cache, {"package": 1 << 30}, Exchange(), locked=True)
    most = free.problem.total(free.solution.picks, "package") - 2500
    assert not free.others()
    clip, _, _ = fitted(build, cache, {"package": most}, Exchange(1000.0, 1e-6), locked=True)
    assert [group.path for group, _ in clip.others()] == ["snake.glb#animations/0"]
    fixed, _, _ = fitted(build, cache, {"package": 150_000}, Exchange(0.0, 0.0))
    assert fixed.solution is None and fixed.missing["package"] > 0
