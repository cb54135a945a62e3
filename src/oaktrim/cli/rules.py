"""`oak-trim role-rules`, `format-rules`, `checks` and `look-alikes`: what a job says of many textures at once."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path
from typing import cast

import click

from oaktrim.cli.exits import fail
from oaktrim.cli.job import JOB, ROLES, changes_of, save
from oaktrim.cli.sources import Source, plan_of, source_at, weigh_source
from oaktrim.cli.tables import console, table
from oaktrim.core.codecs.effort import Effort, ErrorMetric
from oaktrim.core.files.atomic import write_atomic
from oaktrim.core.job.document import Job, checks_of
from oaktrim.core.plan.checks import Check, CheckFix, Grade, as_toml, example_checks, meets
from oaktrim.core.plan.commonrules import common_rules, why_of
from oaktrim.core.plan.formatrules import FormatRule, Rules
from oaktrim.core.plan.lookalikes import known, look_alikes
from oaktrim.core.plan.packing import CompressionRatios, Measured
from oaktrim.core.plan.query import Assets
from oaktrim.core.plan.resolve import Plan, resolve
from oaktrim.core.plan.rolerules import RoleRule, ShareOf
from oaktrim.core.plan.soundcuts import SoundChange
from oaktrim.core.plan.soundrules import SoundRule
from oaktrim.core.plan.status import limits_of
from oaktrim.core.plan.verdict import findings_of
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.findings.finding import Severity
from oaktrim.core.survey.findings.rules import LABELS
from oaktrim.core.survey.pixelkinds import PixelKind
from oaktrim.core.survey.roles import Role
from oaktrim.core.survey.soundroles import SoundRole
from oaktrim.core.units import bytes_text

_AS_IT_IS = "as-it-is"
# Effort, error metric, the least side and targets, as they are written.
_More = tuple[str | None, str | None, int, tuple[str, ...]]


def _share(text: str) -> float:
    try:
        return float(Fraction(text))
    except (ValueError, ZeroDivisionError):
        raise fail(f"a share is a number such as 1/2 or 0.25, not {text!r}") from None


@click.command(name="role-rules")
@click.argument("path", metavar="JOB", type=JOB)
@click.option("--role", type=ROLES, help="The role that the rule is for.")
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
        save(job, path, source)
    elif share is not None or floor is not None or ceiling is not None or remove:
        raise fail("say which --role the rule is for")
    rows = [(rule.role.value, rule.label, ", ".join(rule.targets) or "all targets") for rule in job.role_rules]
    console().print(table(["role", "ships at", "for"], rows) if rows else "No role rules.")


@click.command(name="format-rules")
@click.argument("path", metavar="JOB", type=JOB)
@click.option("--common", is_flag=True, help="Set sizes and formats that suit each target's hardware and limits.")
@click.option("--dry-run", is_flag=True, help="With --common: say what it would come to, and write nothing.")
@click.option("--role", type=ROLES, help="The role that the rule is for.")
@click.option(
    "--pixels", type=click.Choice([row.value for row in PixelKind]), default=PixelKind.ANY.value, show_default=True,
    help="Which textures of the role, by what their pixels hold.",
)  # fmt: skip
@click.option("--format", "name", metavar="NAME", help=f"What they ship as; {_AS_IT_IS} leaves them.")
@click.option("--effort", type=click.Choice([row.value for row in Effort]), help="How hard the encoder searches.")
@click.option("--error-metric", type=click.Choice([row.value for row in ErrorMetric]), help="What an error counts on.")
@click.option("--least", type=int, default=0, help="Textures under this many pixels stay as they are.")
@click.option("--remove", is_flag=True, help="Take the rule away.")
@click.option("--target", "targets", multiple=True, metavar="ID", help="Only for this target; may be given again.")
def format_rules(
    path: Path,
    common: bool,
    dry_run: bool,
    role: str | None,
    pixels: str,
    name: str | None,
    effort: str | None,
    error_metric: str | None,
    least: int,
    remove: bool,
    targets: tuple[str, ...],
) -> None:
    """Show the format rules of JOB, set one, take one away, or use the common ones for sizes and formats.

    A cut by hand wins over a rule. Exit status: 0; 2 when JOB cannot be read or a rule makes no sense.
    """
    source = source_at(path)
    job = source.job
    for target in targets:
        job.target(target)
    if common:
        job = _with_common(source, targets)
        if not dry_run:
            save(job, path, source)
    elif role is not None:
        job = _with_format(job, Role(role), PixelKind(pixels), name, remove, (effort, error_metric, least, targets))
        save(job, path, source)
    elif name is not None or remove:
        raise fail("say which --role the rule is for")
    rows = [
        (rule.role.value, rule.pixels.value, rule.label, ", ".join(rule.targets) or "all targets", why_of(rule))
        for rule in job.format_rules
    ]
    console().print(table(["role", "pixels", "ships as", "for", "because"], rows) if rows else "No format rules.")


def _with_format(job: Job, role: Role, pixels: PixelKind, name: str | None, remove: bool, more: _More) -> Job:
    effort, metric, least, targets = more
    if remove:
        return job.without_format_rule(role, pixels, targets)
    if name is None:
        raise fail(f"say what they ship as: --format NAME, or --format {_AS_IT_IS}")
    try:
        rule = FormatRule(
            role, "" if name == _AS_IT_IS else name, pixels, None if effort is None else Effort(effort),
            None if metric is None else ErrorMetric(metric), least, targets,
        )  # fmt: skip
    except ValueError as error:
        raise fail(str(error)) from error
    return job.with_format_rule(rule)


def _with_common(source: Source, names: tuple[str, ...]) -> Job:
    """Return a job with the common rules, once it is said what they come to."""
    found = weigh_source(source, names)
    job, inventory = source.job, found.inventory
    ratios = CompressionRatios(inventory).merged(Measured(SurveyCache().measured()))
    for plan in found.plans:

        def planned(rules: Rules, plan: Plan = plan) -> Plan:
            ruled = source.job.with_rules(rules).rules
            return resolve(inventory, plan.target, source.job.cuts, ratios, ruled, plan.demand)

        rules = common_rules(plan.target, inventory, planned)
        job = job.with_rules(rules)
        after = {row.line.name: row for row in limits_of(planned(rules))}
        rows = [
            (row.line.label, bytes_text(row.value), bytes_text(after[row.line.name].value), bytes_text(row.limit or 0))
            for row in limits_of(plan)
            if row.line.in_bytes
        ]
        console().print(table([plan.target.name, "is", "becomes", "limit"], rows, right=(1, 2, 3)))
    return job


@click.command(name="sound-rules")
@click.argument("path", metavar="JOB", type=JOB)
@click.option("--role", type=click.Choice([row.value for row in SoundRole]), help="The role that the rule is for.")
@click.option("--rate", type=int, metavar="HZ", help="At most this many frames a second.")
@click.option("--mono", is_flag=True, help="All channels mixed to one.")
@click.option("--codec", metavar="NAME:QUALITY", help="vorbis:0.3, opus:48 (kbit/s a channel), pcm or flac.")
@click.option("--trim-silence", type=float, metavar="DB", help="Ends that stay under this are left off, as -60.")
@click.option("--longest", type=float, metavar="SECONDS", help="Cut off after so long, and fade out.")
@click.option("--pattern", metavar="PATTERN", help="Sounds whose path or name fits, as 'vo/*', have the --role.")
@click.option("--remove", is_flag=True, help="Take the rule for the role away.")
@click.option("--target", "targets", multiple=True, metavar="ID", help="Only for this target; may be given again.")
def sound_rules(
    path: Path,
    role: str | None,
    rate: int | None,
    mono: bool,
    codec: str | None,
    trim_silence: float | None,
    longest: float | None,
    pattern: str | None,
    remove: bool,
    targets: tuple[str, ...],
) -> None:
    """Show the rules for sounds of JOB, set one, take one away, or say by a pattern what sounds are used as.

    A cut by hand wins over a rule. Exit status: 0; 2 when JOB cannot be read or a rule makes no sense.
    """
    source = source_at(path)
    job = source.job
    for name in targets:
        job.target(name)
    asked = {"rate": rate, "mono": mono or None, "codec": codec, "trim_silence": trim_silence, "longest": longest}
    changes = changes_of(**asked)
    if role is None:
        if changes or pattern or remove:
            raise fail("say which --role the rule is for")
    elif pattern:
        job = job.with_sound_pattern(pattern.lower(), SoundRole(role))
    elif remove:
        job = job.without_sound_rule(SoundRole(role), targets)
    else:
        job = job.with_sound_rule(SoundRule(SoundRole(role), cast("tuple[SoundChange, ...]", tuple(changes)), targets))
    if job is not source.job:
        save(job, path, source)
    rows = [(rule.role.value, rule.label, ", ".join(rule.targets) or "all targets") for rule in job.sound_rules]
    console().print(table(["role", "ships as", "for"], rows) if rows else "No rules for sounds.")
    for row in job.sound_patterns:
        click.echo(f"{row.pattern}: {row.role.value}")


_GRADES = ("as-shipped", "off", *(row.value for row in Severity))


@click.command()
@click.argument("path", metavar="JOB", type=JOB)
@click.option("--set", "name", metavar="NAME", help="Set a check of this name; --where says what breaks it.")
@click.option("--where", metavar="FILTER", help="What breaks the check: 'folder:ui side>512'.")
@click.option("--severity", type=click.Choice([row.value for row in Severity]), default=Severity.WARNING.value)
@click.option("--say", default="", metavar="TEXT", help="What is wrong, to whoever finds it.")
@click.option("--cap", type=click.IntRange(1, 1 << 16), help="Its fix: a cap.")
@click.option("--format", "format_name", default="", metavar="NAME", help="Its fix: a format.")
@click.option("--remove", metavar="NAME", help="Take a check away.")
@click.option("--examples", is_flag=True, help="Add the checks that ship as examples.")
@click.option("--use", "shared", metavar="FILE", help="Use the checks of a file, told from the job's root.")
@click.option(
    "--write",
    "written",
    type=click.Path(path_type=Path, dir_okay=False),
    help="Write the checks as a file for other jobs.",
)
@click.option(
    "--grade", "grades", multiple=True, metavar="CODE=GRADE", help=f"A built-in finding counts as {', '.join(_GRADES)}."
)
@click.option("--target", "targets", multiple=True, metavar="ID", help="With --grade: only on this target.")
def checks(
    path: Path,
    name: str | None,
    where: str | None,
    severity: str,
    say: str,
    cap: int | None,
    format_name: str,
    remove: str | None,
    examples: bool,
    shared: str | None,
    written: Path | None,
    grades: tuple[str, ...],
    targets: tuple[str, ...],
) -> None:
    """Show the checks of JOB with how many files each meets, set or take one away, or re-grade built-in findings.

    What a check meets is a finding like any other: `oak-trim survey` lists it, and --strict fails on errors. Exit status: 0; 2 when
    JOB, a file of checks or a filter cannot be understood.
    """
    source = source_at(path)
    before = job = source.job
    if name is not None:
        if where is None:
            raise fail("say what breaks the check: --where FILTER")
        try:
            fix = CheckFix(cap, format_name) if cap is not None or format_name else None
            job = job.with_check(Check(name, where, Severity(severity), say, fix))
        except ValueError as error:
            raise fail(str(error)) from error
    if remove is not None:
        if all(row.name != remove for row in job.checks):
            raise fail(f"there is no check {remove!r} in the job")
        job = job.without_check(remove)
    for check in example_checks() if examples else ():
        job = job.with_check(check)
    if shared is not None and shared not in job.check_files:
        job = job.with_check_file(shared)
    for text in grades:
        job = _regraded(job, text, targets)
    all_checks = checks_of(job, source.root)
    if job is not before:
        save(job, path, source)
    if written is not None:
        write_atomic(written, as_toml(all_checks.own))
    _print_checks(Source(job, source.root))


def _regraded(job: Job, text: str, targets: tuple[str, ...]) -> Job:
    code, _, grade = text.partition("=")
    if grade not in _GRADES or code not in LABELS:
        raise fail(f"{text!r} is not a built-in finding and what it counts as, such as no-levels=off")
    for target in targets:
        job.target(target)
    if grade == "as-shipped":
        return job.with_grade(code, None, targets)
    return job.with_grade(code, Grade(code, None if grade == "off" else Severity(grade), targets), targets)


def _print_checks(source: Source) -> None:
    own = source.checks.own
    if not own:
        console().print("No checks.")
    else:
        found = weigh_source(source, source.job.targets[:1])
        plan = found.plans[0]
        assets = Assets(resolve(found.inventory, plan.target), plan, findings_of(plan))
        for row in own:
            count = len(meets(row, assets))
            click.echo(f"{row.name} ({row.severity.value}): meets {count:,} file{'' if count == 1 else 's'}")
            click.echo(f"    {row.where}" + (f": {row.say}" if row.say else ""))
    for grade in source.job.grades:
        what = "off" if grade.severity is None else grade.severity.value
        click.echo(f"{grade.code}: {what} ({', '.join(grade.targets) or 'all targets'})")


@click.command(name="look-alikes")
@click.argument("path", type=click.Path(path_type=Path))
@click.option("--target", "name", metavar="ID", help="The target whose memory counts.")
@click.option("--most", type=click.IntRange(1), default=20, show_default=True, help="How many groups to list.")
@click.option(
    "--answer", type=(int, ROLES), metavar="NUMBER ROLE", help="Say what a group of the list is; the job keeps it."
)
def look_alikes_command(path: Path, name: str | None, most: int, answer: tuple[int, str] | None) -> None:
    """List groups of look-alikes whose role is guessed or not known, the largest first.

    Exit status: 0; 2 when PATH cannot be read, or there is no such group.
    """
    source = source_at(path)
    plan = plan_of(source, name or "")
    groups = look_alikes(plan)
    if answer is not None:
        if not 1 <= answer[0] <= len(groups):
            raise fail(f"there are groups 1 to {len(groups)}, not {answer[0]}")
        if path.is_dir():
            raise fail(f"{path}: an answer is kept in a job; make one with oak-trim job new")
        group, role = groups[answer[0] - 1], Role(answer[1])
        job, pattern = source.job.with_answer(group, role, plan.inventory)
        save(job, path, source)
        kept = f"as the pattern {pattern}" if pattern else "by their paths"
        click.echo(f"{group.words}: {role.label.lower()}, kept {kept}")
        return
    sums = known(plan)
    total = max(1, sums.total)
    click.echo(
        f"{plan.target.name}: {100 * sums.told / total:.0f} % of {bytes_text(sums.total)} has a role that is told, "
        f"{100 * sums.guessed / total:.0f} % a guessed one, of {100 * sums.unknown / total:.0f} % nothing is known"
    )
    for number, row in enumerate(groups[:most], 1):
        click.echo(f"{number:4}. {bytes_text(row.memory):>9}  {row.words}: {row.role.label.lower()}, {row.reason}")
    if len(groups) > most:
        click.echo(f"... and {len(groups) - most} groups more")
