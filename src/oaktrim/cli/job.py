"""`oak-trim job`, `cut`, `roles` and `role-rules`: editing a job from the command line, as the window does."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import click
import numpy as np

from oaktrim.cli.console import console, fail, table
from oaktrim.cli.sources import Source, source_at, weigh_source
from oaktrim.core.codecs.effort import Effort, ErrorMetric
from oaktrim.core.errors import DocumentError, shown
from oaktrim.core.job.document import SUFFIX, Job, load_job, new_job, root_of, save_job
from oaktrim.core.makers.registry import kind_of
from oaktrim.core.plan.cuts import (
    MAX_LOSS,
    Cap,
    Change,
    Cut,
    Drop,
    KeepCoverage,
    SetEffort,
    SetErrorMetric,
    SetFormat,
    SetLevels,
    SetLoss,
)
from oaktrim.core.plan.query import Assets, select
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.plan.rolerules import RoleRule, ShareOf
from oaktrim.core.plan.verdict import findings_of
from oaktrim.core.survey.roles import Role

_JOB = click.Path(path_type=Path, dir_okay=False, exists=True)
_ROLES = click.Choice([role.value for role in Role])


@click.group(name="job")
def job_group() -> None:
    """Make a job, or show one."""


@job_group.command(name="new")
@click.argument("folder", type=click.Path(path_type=Path, file_okay=False, exists=True))
@click.option(
    "--out", required=True, type=click.Path(path_type=Path, dir_okay=False), help="The job to write, ending in .oak."
)
@click.option("--target", "targets", multiple=True, metavar="ID", help="A target of the job; all that ship by default.")
def new(folder: Path, out: Path, targets: tuple[str, ...]) -> None:
    """Make a job on FOLDER, with nothing cut yet."""
    if out.suffix != SUFFIX:
        raise fail(f"{out}: a job's name ends in {SUFFIX}")
    if out.exists():
        raise fail(f"{out}: is there already")
    job = new_job(folder)
    if targets:
        for name in targets:
            job.target(name)
        job = Job(job.version, job.name, job.root, tuple(dict.fromkeys(targets)))
    save_job(job, out, folder)
    click.echo(f"{shown(out)}: a job on {shown(folder)} for {', '.join(job.targets)}")


@job_group.command(name="show")
@click.argument("path", metavar="JOB", type=_JOB)
def show(path: Path) -> None:
    """Show what a job says: targets, rules, makers, cuts, and what it keeps quiet."""
    job = load_job(path)
    click.echo(f"{job.name}: {shown(root_of(job, path))}")
    click.echo(f"targets: {', '.join(job.targets)}")
    for choice in job.roles:
        click.echo(f"role: {choice.role.value} for {len(choice.assets)} textures")
    for rule in job.role_rules:
        click.echo(f"rule: {rule.role.value} {rule.label} ({', '.join(rule.targets) or 'all targets'})")
    for maker in job.makers:
        kind = kind_of(maker)
        click.echo(f"{kind.tag}: {maker.name}, of {kind.origin(maker)}")
    for place, cut in enumerate(job.cuts, 1):
        click.echo(f"{place}. {cut.label} ({', '.join(cut.targets) or 'all targets'})")
    for suppression in job.suppressed:
        click.echo(f"quiet: {suppression.code} on {suppression.path}: {suppression.reason}")


def _matching(source: Source, where: str, targets: tuple[str, ...]) -> tuple[str, ...]:
    """Return the paths of the textures that a filter keeps, seen on the first of the targets."""
    found = weigh_source(source, targets[:1] or source.job.targets[:1])
    plan = found.plans[0]
    assets = Assets(resolve(found.inventory, plan.target), plan, findings_of(plan))
    kept = np.flatnonzero(select(where, assets)[: len(found.inventory.textures)])
    if not len(kept):
        raise fail(f"no texture is kept by {where!r}", 1)
    return tuple(found.inventory.textures[row].path for row in kept)


def _save(job: Job, path: Path, source: Source) -> None:
    save_job(job, path, source.root)


@click.command()
@click.argument("path", metavar="JOB", type=_JOB)
@click.option("--where", required=True, metavar="FILTER", help="Which textures: 'role:normal side>2048'.")
@click.option("--cap", type=click.IntRange(1, 1 << 16), help="The longest side is at most this.")
@click.option("--drop", type=click.IntRange(0, 16), help="Leave out this many of the largest levels.")
@click.option("--format", "format_name", metavar="NAME", help="Encode in this format.")
@click.option("--levels/--no-levels", default=None, help="Ship mip levels, or only the largest picture.")
@click.option("--effort", type=click.Choice([effort.value for effort in Effort]), help="How hard the encoder searches.")
@click.option(
    "--loss", type=click.FloatRange(0, MAX_LOSS), metavar="DB", help="Quality given up for a smaller package."
)
@click.option(
    "--keep-coverage",
    "coverage",
    type=click.IntRange(0, 255),
    metavar="ALPHA",
    help="Levels keep what a cut-out at it shows.",
)
@click.option("--error-metric", type=click.Choice([c.value for c in ErrorMetric]), help="What an error counts on.")
@click.option("--target", "targets", multiple=True, metavar="ID", help="Only for this target; may be given again.")
def cut(
    path: Path,
    where: str,
    cap: int | None,
    drop: int | None,
    format_name: str | None,
    levels: bool | None,
    effort: str | None,
    loss: float | None,
    coverage: int | None,
    error_metric: str | None,
    targets: tuple[str, ...],
) -> None:
    """Cut the textures of JOB that a filter keeps; the job is written, the sources never are."""
    source = source_at(path)
    changes: list[Change] = []
    try:
        changes += [] if cap is None else [Cap(cap)]
        changes += [] if drop is None else [Drop(drop)]
        changes += [] if format_name is None else [SetFormat(format_name)]
        changes += [] if levels is None else [SetLevels(levels)]
        changes += [] if effort is None else [SetEffort(Effort(effort))]
        changes += [] if loss is None else [SetLoss(loss)]
        changes += [] if coverage is None else [KeepCoverage(coverage)]
        changes += [] if error_metric is None else [SetErrorMetric(ErrorMetric(error_metric))]
    except ValueError as error:
        raise fail(str(error)) from error
    if not changes:
        raise fail(
            "say what to cut: --cap, --drop, --format, --levels, --no-levels, --effort, --loss, --keep-coverage or --count"
        )
    for name in targets:
        if name not in source.job.targets:
            raise DocumentError(path, f"has no target {name!r}; it has {', '.join(source.job.targets)}")
    paths = _matching(source, where, targets)
    job = source.job
    for change in changes:
        job = job.with_cut(Cut(change, paths, targets))
        click.echo(f"{change.label} on {len(paths)} texture{'' if len(paths) == 1 else 's'}")
    _save(job, path, source)


@click.command()
@click.argument("path", metavar="JOB", type=_JOB)
@click.option("--where", required=True, metavar="FILTER", help="Which textures: 'path:ropes'.")
@click.option(
    "--set", "role", type=_ROLES, help="The role; without it, the role is told again from model, name and pixels."
)
def roles(path: Path, where: str, role: str | None) -> None:
    """Set by hand what textures of JOB are used as."""
    source = source_at(path)
    paths = _matching(source, where, ())
    _save(source.job.with_role(Role(role) if role else None, paths), path, source)
    click.echo(f"{role or 'told again'}: {len(paths)} texture{'' if len(paths) == 1 else 's'}")


def _share(text: str) -> float:
    try:
        return float(Fraction(text))
    except (ValueError, ZeroDivisionError):
        raise fail(f"a share is a number such as 1/2 or 0.25, not {text!r}") from None


@click.command(name="role-rules")
@click.argument("path", metavar="JOB", type=_JOB)
@click.option("--role", type=_ROLES, help="The role that the rule is for.")
@click.option("--share", metavar="SHARE", help="Of the longest side of --of: 1, 1/2, 0.25; up to 4 of what is wanted.")
@click.option(
    "--of",
    "basis",
    type=click.Choice([row.value for row in ShareOf]),
    default=ShareOf.BASE_COLOUR.value,
    show_default=True,
    help="What the share is of: the base colour of the material, or the side that sightlines want.",
)
@click.option("--floor", type=int, help="Never under this many pixels.")
@click.option("--ceiling", type=int, help="Never over this many pixels.")
@click.option("--remove", is_flag=True, help="Take the rule for the role away.")
@click.option("--target", "targets", multiple=True, metavar="ID", help="Only for this target; may be given again.")
def role_rules(
    path: Path,
    role: str | None,
    share: str | None,
    basis: str,
    floor: int | None,
    ceiling: int | None,
    remove: bool,
    targets: tuple[str, ...],
) -> None:
    """Show the role rules of JOB, set one, or take one away."""
    source = source_at(path)
    job = source.job
    if role is not None:
        for name in targets:
            job.target(name)
        if remove:
            job = job.without_rule(Role(role), targets)
        else:
            try:
                job = job.with_rule(RoleRule(Role(role), _share(share or "1"), floor, ceiling, targets, ShareOf(basis)))
            except ValueError as error:
                raise fail(str(error)) from error
        _save(job, path, source)
    elif share is not None or floor is not None or ceiling is not None or remove:
        raise fail("say which --role the rule is for")
    rows = [(rule.role.value, rule.label, ", ".join(rule.targets) or "all targets") for rule in job.role_rules]
    console().print(table(["role", "ships at", "for"], rows) if rows else "No role rules.")
