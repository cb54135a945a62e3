"""What is to be said of a mesh, a clip or a sound: what it is, how it gets to a target, and what it weighs there."""

from __future__ import annotations

from dataclasses import dataclass

from oaktrim.core.plan.resolve import Plan
from oaktrim.core.plan.soundrules import SoundRecipe
from oaktrim.core.sounds.codecs import CODECS, SoundStorage
from oaktrim.core.sounds.traits import heard_seconds
from oaktrim.core.survey.facts import CLIP_MARK, AudioFacts, ClipFacts, ModelFacts
from oaktrim.core.survey.roles import Family
from oaktrim.core.units import bytes_text, counted, rate_text


@dataclass(frozen=True)
class OtherFacts:
    """What is to be said, line by line.

    Parameters
    ----------
    facts : of the source; steps : how it gets to the target, and what it weighs there
    envelope : of a sound, empty elsewhere; kept : the part of its length that ships, 0 to 1
    """

    facts: tuple[str, ...]
    steps: tuple[str, ...]
    envelope: bytes = b""
    kept: tuple[float, float] = (0.0, 1.0)


def about_other(plan: Plan, before: Plan, place: int) -> OtherFacts:
    """Return what is to be said of one of an inventory's others.

    Parameters
    ----------
    before : the plan without cuts
    """
    row = plan.inventory.others[place]
    was, now = int(before.others.package[place]), int(plan.others.package[place])
    weighs = f"package {bytes_text(was)}" + ("" if was == now else f" → {bytes_text(now)}")
    if row.family is Family.AUDIO:
        facts = next(sound for sound in plan.inventory.audio if sound.path == row.path)
        return _sound(plan, facts, plan.others.recipes[row.path], place, weighs)
    model = next(model for model in plan.inventory.models if model.path == row.file)
    if row.family is Family.ANIMATION:
        number = int(row.path.partition(CLIP_MARK)[2])
        return OtherFacts(_clip(model.clips[number]), (*_clip_steps(plan, model, number), weighs))
    return OtherFacts(_mesh(model), (*_mesh_steps(plan, model), weighs))


def ships_as(plan: Plan, place: int) -> str:
    """Return in one line what one of an inventory's others ships as on a plan's target."""
    row, models = plan.inventory.others[place], plan.others.models
    if row.path in models.left:
        return "left out"
    if row.family is Family.AUDIO:
        return _made_as(plan.others.recipes[row.path])
    model = next(model for model in plan.inventory.models if model.path == row.file)
    if row.family is Family.ANIMATION:
        return ", ".join(_clip_steps(plan, model, int(row.path.partition(CLIP_MARK)[2])))
    return ", ".join(_mesh_steps(plan, model))


def _made_as(recipe: SoundRecipe) -> str:
    settings = recipe.settings
    if settings is None:
        return "ships as it is"
    label = CODECS[settings.codec].words(settings.quality)
    return f"ships as {label}, {rate_text(recipe.rate, recipe.channels)}, {recipe.seconds:.2f} s"


def _sound(plan: Plan, facts: AudioFacts, recipe: SoundRecipe, place: int, weighs: str) -> OtherFacts:
    said = [
        f"{recipe.role.label}: {recipe.reason}",
        f"{facts.kind.upper()}, {rate_text(facts.rate, facts.channels)}, {facts.seconds:.2f} s, {bytes_text(facts.file_bytes)}",
        f"peak {facts.peak:.1f} dB, heard up to {facts.bandwidth / 1000:.1f} kHz",
    ]
    steps, kept = [], (0.0, 1.0)
    if facts.path in plan.others.models.left:
        return OtherFacts(tuple(said), ("left out",), facts.envelope, (1.0, 0.0))
    for change, cause in recipe.changes:
        why = "rule" if cause < 0 else "cut"
        steps.append(f"{change.label} ({why})")
    settings = recipe.settings
    if settings is not None:
        start = 0.0
        if settings.silence is not None:
            start, _ = heard_seconds(facts.envelope, facts.step, facts.seconds, settings.silence)
        kept = start / facts.seconds, min(1.0, (start + recipe.seconds) / facts.seconds)
    made = _made_as(recipe)
    steps.append(f"{made}: nothing of that would make it smaller" if settings is None and steps else made)
    file, decoded = int(plan.others.files[place]), recipe.decoded_bytes
    held = plan.target.sound_storage is SoundStorage.DECODED
    steps.append(weighs)
    steps.append(
        f"memory: {bytes_text(decoded)} decoded{' ←' if held else ''}, {bytes_text(file)} packed{'' if held else ' ←'}"
    )
    return OtherFacts(tuple(said), tuple(steps), facts.envelope, kept)


def _clip(clip: ClipFacts) -> tuple[str, ...]:
    lines = [f"{clip.seconds:.2f} s, {clip.channels} channels, {clip.keys:,} keys, {bytes_text(clip.data_bytes)}"]
    lines += [f"{clip.idle} channels leave their nodes where they stand"] if clip.idle else []
    lines += [f"{clip.needed:,} keys would keep all within 1 mm and 1°"] if clip.needed >= 0 else []
    return tuple(lines)


def _clip_steps(plan: Plan, model: ModelFacts, number: int) -> tuple[str, ...]:
    settings = plan.others.models.settings.get(model.path)
    if settings is None:
        return _as_it_is(plan, model)
    if number in settings.clips:
        return ("left out",)
    bound = dict(settings.motion).get(number)
    return ("ships as it is",) if bound is None else (f"keys within {bound.millimetres:g} mm, {bound.degrees:g}°",)


def _as_it_is(plan: Plan, model: ModelFacts) -> tuple[str, ...]:
    refused = plan.others.models.refused.get(model.path)
    return ("ships as it is",) if refused is None else (f"▲ ships as it is: {refused}",)


def _mesh(model: ModelFacts) -> tuple[str, ...]:
    facts = model.vertices
    named = sorted(facts.attributes.items(), key=lambda row: -row[1])
    lines = [
        f"{counted(len(model.objects), 'object')}, {sum(o.triangles for o in model.objects):,} triangles, "
        f"{counted(len(model.materials), 'material')}",
        *(f"{name} {bytes_text(size)}{_unused(facts.unused.get(name, 0))}" for name, size in named),
    ]
    if facts.triangles:
        lines.append(
            f"{facts.misses / facts.triangles:.2f} vertices worked on a triangle; {facts.ordered / facts.triangles:.2f} in a "
            "better order"
        )
    return tuple(lines)


def _unused(size: int) -> str:
    return f", of which {bytes_text(size)} unused" if size else ""


def _mesh_steps(plan: Plan, model: ModelFacts) -> tuple[str, ...]:
    settings = plan.others.models.settings.get(model.path)
    if settings is None:
        return _as_it_is(plan, model)
    lines = ["unused data left out"] if settings.unused else []
    lines += ["same materials merged"] if settings.merged else []
    lines += ["triangles in cache order"] if settings.ordered else []
    lines += [f"vertices within {settings.millimetres:g} mm"] if settings.millimetres else []
    lines += [f"{counted(len(settings.nodes), 'node')} left out"] if settings.nodes else []
    lines += [f"without {', '.join(settings.variants)}"] if settings.variants else []
    return tuple(lines) or ("its geometry ships as it is",)
