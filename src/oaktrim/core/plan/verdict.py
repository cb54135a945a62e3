"""What is wrong with what ships, and the cut that mends it."""

from __future__ import annotations

from oaktrim.core.plan.checks import Checks, with_checks
from oaktrim.core.plan.cuts import Cap, Change, SetFormat, SetLevels
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
        plan.inventory, plan.target, plan.formats, plan.footprint, ratios, plan.demand, shipped_sounds(plan)
    )
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


def change_of(fix: Fix | None) -> Change | None:
    """Return the change that does what a remedy says, or None where a maker or a hand has to."""
    if fix is None:
        return None
    if fix.kind is Remedy.CAP:
        return Cap(int(fix.value))
    if fix.kind is Remedy.FORMAT:
        return SetFormat(str(fix.value))
    if fix.kind is Remedy.RATE:
        return SetRate(int(fix.value))
    if fix.kind is Remedy.MONO:
        return SetMono(True)
    if fix.kind is Remedy.TRIM:
        return TrimSilence(float(fix.value))
    if fix.kind is Remedy.CODEC:
        return codec_change(str(fix.value))
    return SetLevels(bool(fix.value)) if fix.kind is Remedy.LEVELS else None
