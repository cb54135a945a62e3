"""`oak-trim job`, `cut` and `roles`: editing a job from the command line, as the window does."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import click
import numpy as np

from oaktrim.cli.exits import fail
from oaktrim.cli.sources import Source, source_at, weigh_source
from oaktrim.core.codecs.effort import Effort, ErrorMetric
from oaktrim.core.errors import DocumentError, shown
from oaktrim.core.job.document import SUFFIX, Job, load_job, new_job, root_of, save_job, write_job
from oaktrim.core.job.merge import merge_jobs
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
    thing_of,
)
from oaktrim.core.plan.modelcuts import (
    DropUnused,
    LeaveOut,
    MergeMaterials,
    OrderTriangles,
    QuantizeVertices,
    ReduceMotion,
)
from oaktrim.core.plan.query import Assets, select
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.plan.soundcuts import SetLongest, SetMono, SetRate, TrimSilence, codec_change
from oaktrim.core.plan.verdict import findings_of
from oaktrim.core.settings import load_settings
from oaktrim.core.survey.facts import CLIP_MARK
from oaktrim.core.survey.pixelkinds import PixelKind
from oaktrim.core.survey.roles import Role

JOB = click.Path(path_type=Path, dir_okay=False, exists=True)
ROLES = click.Choice([role.value for role in Role])


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
    job = new_job(folder, load_settings())
    if targets:
        for name in targets:
            job.target(name)
        job = Job(job.version, job.name, job.root, tuple(dict.fromkeys(targets)))
    save_job(job, out, folder)
    click.echo(f"{shown(out)}: a job on {shown(folder)} for {', '.join(job.targets)}")


@job_group.command(name="show")
@click.argument("path", metavar="JOB", type=JOB)
def show(path: Path) -> None:
    """Show what a job says: targets, rules, makers, cuts, and what it keeps quiet."""
    job = load_job(path)
    click.echo(f"{job.name}: {shown(root_of(job, path))}")
    click.echo(f"targets: {', '.join(job.targets)}")
    for choice in job.roles:
        click.echo(f"role: {choice.role.value} for {len(choice.assets)} textures")
    for rule in job.role_rules:
        click.echo(f"rule: {rule.role.value} {rule.label} ({', '.join(rule.targets) or 'all targets'})")
    for row in job.format_rules:
        pixels = "" if row.pixels is PixelKind.ANY else f", {row.pixels.value}"
        click.echo(f"rule: {row.role.value}{pixels} as {row.label} ({', '.join(row.targets) or 'all targets'})")
    for heard in job.sound_rules:
        click.echo(f"rule: {heard.role.value} sounds {heard.label} ({', '.join(heard.targets) or 'all targets'})")
    for check in job.checks:
        click.echo(f"check: {check.name}, {check.severity.value}: {check.where}")
    for grade in job.grades:
        severity = "off" if grade.severity is None else grade.severity.value
        click.echo(f"grade: {grade.code} {severity} ({', '.join(grade.targets) or 'all targets'})")
    for maker in job.makers:
        kind = kind_of(maker)
        click.echo(f"{kind.tag}: {maker.name}, of {kind.origin(maker)}")
    for place, cut in enumerate(job.cuts, 1):
        click.echo(f"{place}. {cut.label} ({', '.join(cut.targets) or 'all targets'}){'' if cut.enabled else ' off'}")
    for suppression in job.suppressed:
        click.echo(f"suppressed: {suppression.code} on {suppression.path}: {suppression.reason}")


@job_group.command(name="merge")
@click.argument("base", type=JOB)
@click.argument("ours", type=JOB)
@click.argument("theirs", type=JOB)
@click.option("--out", type=click.Path(path_type=Path, dir_okay=False), help="The job to write; OURS by default.")
def merge(base: Path, ours: Path, theirs: Path, out: Path | None) -> None:
    """Make two edits of a job one, as a merge driver of version control does.

    BASE is what OURS and THEIRS began from; an empty file where they have nothing in common. What only one of them changed is
    taken. What both changed otherwise stays as in OURS, is said in a sentence each, and makes the exit status 1.
    """
    began = load_job(base) if base.stat().st_size else None
    merged = merge_jobs(began, load_job(ours), load_job(theirs))
    write_job(merged.job, out or ours)
    for conflict in merged.conflicts:
        click.echo(f"conflict: {conflict}")
    if merged.conflicts:
        count = len(merged.conflicts)
        raise fail(f"{shown(out or ours)}: {count} conflict{'' if count == 1 else 's'}, in which ours stands", 1)


def _matching(source: Source, where: str, targets: tuple[str, ...]) -> dict[str, tuple[str, ...]]:
    """Return the paths of what a filter keeps by the kind of asset that cuts are on, seen on the first of the targets."""
    found = weigh_source(source, targets[:1] or source.job.targets[:1])
    plan, inventory = found.plans[0], found.inventory
    assets = Assets(resolve(inventory, plan.target), plan, findings_of(plan, source.checks))
    kept = [assets.paths[asset] for asset in np.flatnonzero(select(where, assets))]
    if not kept:
        raise fail(f"nothing is kept by {where!r}", 1)
    sounds = {sound.path for sound in inventory.audio}
    clips = {path for path in kept if CLIP_MARK in path}
    models = {model.path for model in inventory.models}
    things = {"texture": inventory.row_of, "sound": sounds, "clip": clips, "model": models, "part": sounds | clips}
    return {thing: tuple(path for path in kept if path in known) for thing, known in things.items()}


def _textures(source: Source, where: str) -> tuple[str, ...]:
    paths = _matching(source, where, ())["texture"]
    if not paths:
        raise fail(f"no texture is kept by {where!r}", 1)
    return paths


def save(job: Job, path: Path, source: Source) -> None:
    save_job(job, path, source.root)


def changes_of(**asked: Any) -> list[Change]:
    """Return the changes that options ask for; those that were not given are None."""
    made: dict[str, Callable[[Any], Change]] = {
        "cap": Cap, "drop": Drop, "format_name": SetFormat, "levels": SetLevels, "effort": lambda v: SetEffort(Effort(v)),
        "loss": SetLoss, "coverage": KeepCoverage, "error_metric": lambda v: SetErrorMetric(ErrorMetric(v)), "rate": SetRate,
        "mono": SetMono, "codec": codec_change, "trim_silence": TrimSilence, "longest": SetLongest,
        "keys": ReduceMotion, "unused": DropUnused, "merge": MergeMaterials, "order": OrderTriangles,
        "quantize": QuantizeVertices, "leave_out": LeaveOut,
    }  # fmt: skip
    try:
        return [made[name](value) for name, value in asked.items() if value is not None]
    except ValueError as error:
        raise fail(str(error)) from error


@click.command()
@click.argument("path", metavar="JOB", type=JOB)
@click.option("--where", required=True, metavar="FILTER", help="Which files: 'role:normal side>2048', 'kind:sound'.")
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
@click.option("--rate", type=int, metavar="HZ", help="Sounds: at most this many frames a second.")
@click.option("--mono/--no-mono", default=None, help="Sounds: mix all channels to one, or keep them.")
@click.option("--codec", metavar="NAME:QUALITY", help="Sounds: vorbis:0.3, opus:48 (kbit/s a channel), pcm or flac.")
@click.option("--trim-silence", type=float, metavar="DB", help="Sounds: leave off ends that stay under this, as -60.")
@click.option("--longest", type=float, metavar="SECONDS", help="Sounds: cut off after so long, and fade out.")
@click.option(
    "--keys", type=float, metavar="MM", help="Clips: keep the keys that leave all within so many millimetres."
)
@click.option(
    "--unused/--no-unused", default=None, help="Models: leave out vertex data and materials that nothing needs."
)
@click.option("--merge-materials/--no-merge-materials", "merge", default=None, help="Models: make same materials one.")
@click.option("--order/--no-order", default=None, help="Models: put triangles in an order that suits caches.")
@click.option("--quantize", type=float, metavar="MM", help="Models: fewer bits, no vertex off by more; 0 for none.")
@click.option("--leave-out/--no-leave-out", default=None, help="Sounds and clips: do not ship them.")
@click.option("--target", "targets", multiple=True, metavar="ID", help="Only for this target; may be given again.")
def cut(path: Path, where: str, targets: tuple[str, ...], **asked: Any) -> None:
    """Cut the textures, sounds, clips and models of JOB that a filter keeps; the job is written, the sources never are."""
    source = source_at(path)
    changes = changes_of(**asked)
    if not changes:
        raise fail("say what to cut: --cap, --format, --rate, --codec or another; see oak-trim cut --help")
    for name in targets:
        if name not in source.job.targets:
            raise DocumentError(path, f"has no target {name!r}; it has {', '.join(source.job.targets)}")
    kept = _matching(source, where, targets)
    job = source.job
    for change in changes:
        thing = thing_of(type(change))
        if not kept[thing]:
            raise fail(f"{change.label}: no {thing} is kept by {where!r}", 1)
        job = job.with_cut(Cut(change, kept[thing], targets))
        count = len(kept[thing])
        click.echo(f"{change.label} on {count} {thing}{'' if count == 1 else 's'}")
    save(job, path, source)


@click.command()
@click.argument("path", metavar="JOB", type=JOB)
@click.option("--where", required=True, metavar="FILTER", help="Which textures: 'path:ropes'.")
@click.option(
    "--set", "role", type=ROLES, help="The role; without it, the role is told again from model, name and pixels."
)
def roles(path: Path, where: str, role: str | None) -> None:
    """Set by hand what textures of JOB are used as."""
    source = source_at(path)
    paths = _textures(source, where)
    save(source.job.with_role(Role(role) if role else None, paths), path, source)
    click.echo(f"{role or 'told again'}: {len(paths)} texture{'' if len(paths) == 1 else 's'}")
