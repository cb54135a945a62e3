"""What is wrong with what ships, and the cut that mends it."""

from __future__ import annotations

from oaktrim.core.plan.checks import Checks, with_checks
from oaktrim.core.plan.cuts import Cap, Change, SetFormat, SetLevels
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.progress import Task, finish
from oaktrim.core.survey.findings.finding import COMMON_SHARES, Finding, Fix, Remedy, RuleContext
from oaktrim.core.survey.findings.rules import judge


def findings_of(plan: Plan, checks: Checks = Checks()) -> list[Finding]:
    """Return the findings on what a plan ships."""
    return finish(judge_plan(plan, checks))


def judge_plan(plan: Plan, checks: Checks = Checks()) -> Task[list[Finding]]:
    """Return the findings on what a plan ships, as a job has them; can be stopped between two rules."""
    ratios = {**COMMON_SHARES, **{r.role: r.share for r in plan.rules.sizes if r.is_for(plan.target.id)}}
    context = RuleContext(plan.inventory, plan.target, plan.formats, plan.footprint, ratios, plan.demand)
    return with_checks((yield from judge(context)), plan, checks)


def change_of(fix: Fix | None) -> Change | None:
    """Return the change that does what a remedy says, or None where a maker or a hand has to."""
    if fix is None:
        return None
    if fix.kind is Remedy.CAP:
        return Cap(int(fix.value))
    if fix.kind is Remedy.FORMAT:
        return SetFormat(str(fix.value))
    return SetLevels(bool(fix.value)) if fix.kind is Remedy.LEVELS else None
