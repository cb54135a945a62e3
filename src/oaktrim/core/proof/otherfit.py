"""Sounds and clips beside textures in a fit to budget: what each could ship as, what that loses, and what it costs.

Losses are told on scales of their own: of a sound by how many steps of 3 dB the difference stands over what masks it, of a clip by
how many times `MILLIMETRES` anything comes to stand off. A step counts as so many steps of a picture as the exchange rate says.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from math import sqrt
from pathlib import Path

import numpy as np

from oaktrim.core.errors import OakTrimError
from oaktrim.core.files.atomic import read_bytes
from oaktrim.core.files.gltf import parse_gltf
from oaktrim.core.files.references import ReferenceFolder
from oaktrim.core.job.document import Job
from oaktrim.core.plan.budget import Choices
from oaktrim.core.plan.cuts import Change, Cut
from oaktrim.core.plan.modelcuts import ReduceMotion
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.plan.soundcuts import SetCodec, SetRate
from oaktrim.core.plan.soundrules import SoundRecipe, sound_recipes
from oaktrim.core.progress import Progress, Task, map_unordered
from oaktrim.core.proof.problem import OtherGroup, OtherOption, Problem
from oaktrim.core.scene.gltf.model import model_of
from oaktrim.core.ship.sounds import made_sound
from oaktrim.core.ship.store import MadeStore
from oaktrim.core.sounds.codecs import SoundCodec
from oaktrim.core.sounds.compare import compare, reference_for
from oaktrim.core.sounds.encode import brought_down, encode
from oaktrim.core.sounds.signal import Sound, decode
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.facts import CLIP_MARK, AudioFacts
from oaktrim.core.survey.packed import pack_bytes
from oaktrim.core.survey.places import file_of
from oaktrim.core.targets.lines import LINES, Weights
from oaktrim.core.trim.clips import curves_of, hierarchy_of
from oaktrim.core.trim.motion import MotionBound, reduce_motion
from oaktrim.core.trim.rework import Rework

# What a sound could ship as, the mildest first; what would not make it smaller is left out.
_SOUNDS: tuple[tuple[Change, ...], ...] = (
    (SetCodec(SoundCodec.VORBIS, 0.6),),
    (SetCodec(SoundCodec.VORBIS, 0.4),),
    (SetCodec(SoundCodec.VORBIS, 0.2),),
    (SetCodec(SoundCodec.VORBIS, 0.2), SetRate(22_050)),
    (SetCodec(SoundCodec.VORBIS, 0.0), SetRate(16_000)),
)
_CLIPS = (0.25, 1.0, 4.0)
# One step of a clip, millimetres, and clips that are too small to be worth a look, bytes.
MILLIMETRES, _WORTH = 2.0, 1 << 13
# Of a sound no more is encoded for this, seconds from its middle.
_HEARD = 6.0


def with_others(problem: Problem, cache: SurveyCache) -> Task[Problem]:
    """Return a problem in which sounds and clips decide, too, where their exchange rates are over 0 and they cost something."""
    exchange = problem.exchange
    plan, lines = problem.plan, problem.lines
    known, fresh = cache.losses(), dict[str, float]()
    wanted: list[tuple[str, float]] = []
    if exchange.sounds and any(line in ("package", "unpacked", "sounds") for line in lines):
        wanted += [
            (sound.path, exchange.sounds) for sound in plan.inventory.audio if sound.path not in plan.others.models.left
        ]
    if exchange.motion and any(line in ("package", "unpacked") for line in lines):
        wanted += [
            (f"{model.path}{CLIP_MARK}{number}", exchange.motion)
            for model in plan.inventory.models
            if not model.held
            for number, clip in enumerate(model.clips)
            if clip.data_bytes >= _WORTH and _is_free(plan, model.path, number)
        ]
    groups: list[OtherGroup] = []

    def work(row: tuple[str, float]) -> OtherGroup | None:
        try:
            return (_clip_group if CLIP_MARK in row[0] else _sound_group)(problem, row[0], row[1], known, fresh)
        except (OakTrimError, MemoryError):
            # What cannot be read stays as it is; shipping says why.
            return None

    for done, (position, made) in enumerate(map_unordered(work, wanted), 1):
        groups += [made] if made is not None and len(made.options) > 1 else []
        yield Progress(done, len(wanted), f"listening and looking: {wanted[position][0]}")
    cache.keep_losses(fresh)
    return _joined(problem, sorted(groups, key=lambda group: group.path))


def _is_free(plan: Plan, file: str, number: int) -> bool:
    settings = plan.others.models.settings.get(file)
    return settings is None or (number not in settings.clips and number not in dict(settings.motion))


def _joined(problem: Problem, groups: Sequence[OtherGroup]) -> Problem:
    if not groups:
        return problem
    choices = problem.choices
    options = [(group, option) for group in groups for option in group.options]
    first = np.concatenate([choices.first, choices.first[-1] + np.cumsum([len(group.options) for group in groups])])
    loss = np.array([group.weight * option.steps**2 for group, option in options])
    cost = np.array([option.costs for _, option in options], np.int64).T
    now = np.array([group.options[0].costs for group in groups], np.int64).sum(axis=0)
    told = np.ones(len(options), np.bool_)
    return replace(
        problem,
        others=tuple(groups),
        choices=Choices(first, np.concatenate([choices.loss, loss]), np.concatenate([choices.cost, cost], axis=1)),
        keys=(*problem.keys, *(f"{group.path} {option.label}" for group, option in options)),
        fixed=problem.fixed - now,
        exact=np.concatenate([problem.exact, told]),
        measured=np.concatenate([problem.measured, told]),
    )


def _costs(lines: Sequence[str], package: int, file: int, held: int) -> tuple[int, ...]:
    weights = Weights.beside_textures(*(np.array([size], np.int64) for size in (package, file, held)))
    return tuple(int(LINES[line].weigh(weights)[0]) for line in lines)


def _place(plan: Plan, path: str) -> int:
    return next(place for place, row in enumerate(plan.inventory.others) if row.path == path)


def _now(problem: Problem, place: int) -> OtherOption:
    others = problem.plan.others
    sizes = (int(others.package[place]), int(others.files[place]), int(others.sounds[place]))
    return OtherOption("as it ships now", (), 0.0, _costs(problem.lines, *sizes))


def _sound_group(
    problem: Problem, path: str, exchange: float, known: dict[str, float], fresh: dict[str, float]
) -> OtherGroup:
    plan, place = problem.plan, _place(problem.plan, path)
    facts = next(sound for sound in plan.inventory.audio if sound.path == path)
    options, source = [_now(problem, place)], None
    before = plan.others.recipes[path]
    size = int(plan.others.files[place])
    for changes in _SOUNDS:
        recipe = _recipe(plan, path, changes)
        if recipe.settings is None or recipe == before:
            continue
        name = f"{facts.content} {recipe.settings.key} heard"
        if name not in known or f"{name} size" not in known:
            source = source or _middle(plan, facts)
            known[name], known[f"{name} size"] = _tried(source, recipe, file_of(plan.inventory.root, path))
            fresh[name], fresh[f"{name} size"] = known[name], known[f"{name} size"]
        file = round(known[f"{name} size"] * recipe.seconds)
        if file < size:
            held = plan.target.sound_storage.held_bytes(file, recipe.decoded_bytes)
            label = ", ".join(change.label for change in changes)
            options.append(OtherOption(label, changes, known[name], _costs(problem.lines, file, file, held)))
    return OtherGroup(path, tuple(options), exchange * min(4.0, max(0.25, sqrt(facts.seconds / 4))))


def _recipe(plan: Plan, path: str, changes: Sequence[Change]) -> SoundRecipe:
    """Return what one sound ships as with some changes beside those that are there."""
    cuts = [*plan.cuts, *(Cut(change, (path,), (plan.target.id,)) for change in changes)]
    alone = replace(plan.inventory, audio=tuple(sound for sound in plan.inventory.audio if sound.path == path))
    return sound_recipes(alone, plan.target.id, cuts, plan.rules.sounds)[path]


def _middle(plan: Plan, facts: AudioFacts) -> Sound:
    file = file_of(plan.inventory.root, facts.path)
    sound = decode(read_bytes(file), file)
    count = min(len(sound.samples), round(_HEARD * sound.rate))
    start = (len(sound.samples) - count) // 2
    return replace(sound, samples=sound.samples[start : start + count])


def _tried(source: Sound, recipe: SoundRecipe, file: Path) -> tuple[float, float]:
    """Return how much of the difference is heard, in steps, and the bytes that a second takes."""
    assert recipe.settings is not None
    # Ends are no matter of the middle.
    settings = type(recipe.settings)(
        recipe.settings.rate, recipe.settings.channels, recipe.settings.codec, recipe.settings.quality
    )
    data = encode(brought_down(source, settings), settings)
    return compare(reference_for(source, settings), decode(data, file)).audible, len(data) / source.seconds


def _clip_group(
    problem: Problem, path: str, exchange: float, known: dict[str, float], fresh: dict[str, float]
) -> OtherGroup:
    plan, place = problem.plan, _place(problem.plan, path)
    row, number = plan.inventory.others[place], int(path.partition(CLIP_MARK)[2])
    options = [_now(problem, place)]
    names = [f"{row.content} clip {number} within {bound:g}" for bound in _CLIPS]
    if any(f"{name} size" not in known for name in names):
        folder = ReferenceFolder(plan.inventory.root, row.file)
        sources = plan.inventory.sources(1 << 28)
        data = (
            sources.model(row.file)
            if row.file in plan.inventory.made
            else read_bytes(file_of(plan.inventory.root, row.file))
        )
        document = parse_gltf(data, folder)
        model = model_of(document, whole=True)
        rework = Rework(document)
        hierarchy = hierarchy_of(rework, model)
        curves = [curve for curve in curves_of(rework, rework.rows("animations")[number]) if curve is not None]
        for name, bound in zip(names, _CLIPS, strict=True):
            reduced = reduce_motion(curves, hierarchy, MotionBound(bound, 1.0))
            known[name] = float(reduced.distance.max()) * 1000 / MILLIMETRES
            known[f"{name} size"] = float(reduced.stored_bytes)
            fresh[name], fresh[f"{name} size"] = known[name], known[f"{name} size"]
    share = row.packed.get(plan.target.packing.method, 1.0)
    for name, bound in zip(names, _CLIPS, strict=True):
        size = int(known[f"{name} size"])
        if size < row.bytes:
            change = ReduceMotion(bound)
            costs = _costs(problem.lines, round(size * share), size, 0)
            options.append(OtherOption(change.label, (change,), known[name], costs))
    return OtherGroup(path, tuple(options), exchange)


def made_sounds(problem: Problem, picks: np.ndarray, cache: SurveyCache) -> Task[Problem]:
    """Make the sounds that are proposed, whole, and return the problem with what came out in the place of what was expected."""
    plan, cost, made = problem.plan, problem.choices.cost.copy(), set(problem.made)
    store = MadeStore.beside(cache)
    due = [
        (int(picks[number]), group)
        for number, group in enumerate(problem.others, len(problem.groups))
        if CLIP_MARK not in group.path and int(picks[number]) not in made
    ]
    due = [row for row in due if row[0] not in problem.choices.first]

    def work(row: tuple[int, OtherGroup]) -> tuple[int, ...] | None:
        choice, group = row
        option = group.options[choice - int(problem.choices.first[len(problem.groups) + problem.others.index(group)])]
        recipe = _recipe(plan, group.path, option.changes)
        facts = next(sound for sound in plan.inventory.audio if sound.path == group.path)
        try:
            data = made_sound(plan.inventory.root, facts, recipe, store)
        except (OakTrimError, MemoryError):
            return None
        packed = min(len(data), pack_bytes(data, plan.target.packing))
        held = plan.target.sound_storage.held_bytes(len(data), recipe.decoded_bytes)
        return _costs(problem.lines, packed, len(data), held)

    for done, (position, costs) in enumerate(map_unordered(work, due), 1):
        choice, group = due[position]
        made.add(choice)
        if costs is not None:
            cost[:, choice] = costs
        yield Progress(done, len(due), f"making {group.path}")
    return replace(problem, choices=replace(problem.choices, cost=cost), made=frozenset(made))


def with_other_fit(job: Job, problem: Problem, picks: np.ndarray) -> Job:
    """Return the job with what is proposed for sounds and clips as cuts on the plan's target."""
    for group, option in proposed(problem, picks):
        if option.changes:
            job = job.with_changes(problem.plan.target.id, (group.path,), *option.changes)
    return job


def proposed(problem: Problem, picks: np.ndarray) -> list[tuple[OtherGroup, OtherOption]]:
    """Return the sounds and clips for which something else is proposed than what ships now."""
    found = []
    for number, group in enumerate(problem.others, len(problem.groups)):
        option = group.options[int(picks[number]) - int(problem.choices.first[number])]
        found += [(group, option)] if option.changes else []
    return found
