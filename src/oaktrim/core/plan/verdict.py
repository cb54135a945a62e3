"""What is wrong with what ships, and the cut that mends it."""

from __future__ import annotations

from collections.abc import Callable

from oaktrim.core.plan.checks import Checks, with_checks
from oaktrim.core.plan.cuts import Cap, Change, SetFormat, SetLevels
from oaktrim.core.plan.modelcuts import DropUnused, LeaveOut, OrderTriangles, ReduceMotion
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.plan.soundcuts import SetMono, SetRate, TrimSilence, codec_change
from oaktrim.core.progress import Task, finish
from oaktrim.core.sounds.codecs import SoundKind
from oaktrim.core.survey.findings.finding import COMMON_SHARES, Finding, Fix, Remedy, RuleContext, ShippedSound
from oaktrim.core.survey.findings.rules import judge


def findings_of(plan: Plan, checks: Checks = Checks()) -> list[Finding]:
    """Return the findings on what a plan ships."""
    return finish(judge_plan(plan, checks))


def judge_plan(plan: Plan, checks: Checks = Checks()) -> Task[list[Finding]]:
    """Return the findings on what a plan ships, as a job has them; can be stopped between two rules."""
    ratios = {**COMMON_SHARES, **{r.role: r.share for r in plan.rules.sizes if r.is_for(plan.target.id)}}
    context = RuleContext(
        plan.inventory, plan.target, plan.formats, plan.footprint, ratios, plan.demand, shipped_sounds(plan),
        plan.others.models.counts, plan.others.models.touched, plan.others.models.refused,
    )  # fmt: skip
    return with_checks((yield from judge(context)), plan, checks)


def shipped_sounds(plan: Plan) -> dict[str, ShippedSound]:
    """Return what each sound ships as, by path."""
    others, kinds = plan.others, {sound.path: SoundKind(sound.kind) for sound in plan.inventory.audio}
    found = {}
    for place, row in enumerate(plan.inventory.others):
        recipe = others.recipes.get(row.path)
        if recipe is not None:
            found[row.path] = ShippedSound(
                recipe.kind or kinds[row.path], recipe.seconds, recipe.rate, recipe.channels, int(others.files[place]),
                int(others.sounds[place]),
            )  # fmt: skip
    return found


# What each remedy does with its value, where a cut does it.
_CHANGES: dict[Remedy, Callable[[int | str], Change]] = {
    Remedy.CAP: lambda value: Cap(int(value)),
    Remedy.FORMAT: lambda value: SetFormat(str(value)),
    Remedy.LEVELS: lambda value: SetLevels(bool(value)),
    Remedy.RATE: lambda value: SetRate(int(value)),
    Remedy.MONO: lambda _: SetMono(True),
    Remedy.TRIM: lambda value: TrimSilence(float(value)),
    Remedy.CODEC: lambda value: codec_change(str(value)),
    Remedy.KEYS: lambda value: ReduceMotion(float(value)),
    Remedy.UNUSED: lambda _: DropUnused(),
    Remedy.ORDER: lambda _: OrderTriangles(),
    Remedy.LEAVE_OUT: lambda _: LeaveOut(),
}


def change_of(fix: Fix | None) -> Change | None:
    """Return the change that does what a remedy says, or None where a maker or a hand has to."""
    return None if fix is None or fix.kind not in _CHANGES else _CHANGES[fix.kind](fix.value)
