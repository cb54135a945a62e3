"""`oak-trim fit`: the cuts that bring a job within a target's limits at the least visible loss."""

from __future__ import annotations

from pathlib import Path

import click
import numpy as np

from oaktrim.cli.exits import EXIT_OVER, fail
from oaktrim.cli.manymachines import made_by, scheduler_option
from oaktrim.cli.progress import run
from oaktrim.cli.sources import Source, look, source_at
from oaktrim.cli.tables import console, table
from oaktrim.core.codecs.effort import Effort
from oaktrim.core.errors import shown
from oaktrim.core.job.document import save_job
from oaktrim.core.makers.build import survey_tree
from oaktrim.core.plan.packing import CompressionRatios, measured_before
from oaktrim.core.plan.query import Assets, select
from oaktrim.core.plan.resolve import Plan, resolve
from oaktrim.core.plan.verdict import findings_of
from oaktrim.core.proof.fit import Basis, Fit, propose, why, with_fit
from oaktrim.core.proof.problem import Exchange, bounds_of
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.targets.lines import byte_lines
from oaktrim.core.targets.target import Target, parse_bytes
from oaktrim.core.units import bytes_text


def limits_for(target: Target, lines: tuple[str, ...]) -> dict[str, int]:
    """Return the limits in bytes of a target, those of `lines` ("memory=160MiB") in the place of its own."""
    limits = dict(target.limit_bytes)
    for text in lines:
        name, mark, size = text.partition("=")
        if not mark or name not in byte_lines():
            raise fail(
                f"--line {text!r}: write a line and its limit, as memory=160MiB; lines are {', '.join(byte_lines())}"
            )
        try:
            limits[name] = parse_bytes(size)
        except ValueError as error:
            raise fail(f"--line {text!r}: {error}") from error
    return limits


def locked_by(plan: Plan, filters: tuple[str, ...]) -> np.ndarray:
    """Return which textures some filter keeps, as a column."""
    locked = np.zeros(len(plan.formats), np.bool_)
    if filters:
        assets = Assets(resolve(plan.inventory, plan.target), plan, findings_of(plan))
        for text in filters:
            locked |= np.asarray(select(text, assets))[: len(locked)]
    return locked


@click.command()
@click.argument("path", metavar="JOB", type=click.Path(path_type=Path, dir_okay=False, exists=True))
@click.option("--target", "name", required=True, metavar="ID", help="The target whose limits are to be met.")
@click.option(
    "--line", "lines", multiple=True, metavar="LINE=SIZE", help="A limit other than the target's: memory=160MiB."
)
@click.option("--lock", "locks", multiple=True, metavar="FILTER", help="Textures that are not to be touched.")
@click.option(
    "--by-rules",
    is_flag=True,
    help="Keep the formats that format rules say, and decide sizes: less to measure, sooner done.",
)
@click.option(
    "--effort",
    type=click.Choice([e.value for e in Effort]),
    help="Encode what is proposed with this; as it is if left out.",
)
@click.option(
    "--within",
    type=click.FloatRange(1),
    metavar="SECONDS",
    help="Take the best answer after so long; Ctrl+C takes it at once.",
)
@click.option(
    "--sounds",
    "sound_worth",
    type=click.FloatRange(0, 1000),
    default=1.0,
    show_default=True,
    metavar="RATE",
    help="What a step that is heard counts beside one that is seen; 0 leaves sounds as they are.",
)
@click.option(
    "--motion",
    "motion_worth",
    type=click.FloatRange(0, 1000),
    default=1.0,
    show_default=True,
    metavar="RATE",
    help="What 2 mm that a clip is off count beside a step that is seen; 0 leaves clips as they are.",
)
@scheduler_option
@click.option("--dry-run", is_flag=True, help="Print the plan, and leave the job as it is.")
def fit(
    path: Path,
    name: str,
    lines: tuple[str, ...],
    locks: tuple[str, ...],
    effort: str | None,
    by_rules: bool,
    within: float | None,
    sound_worth: float,
    motion_worth: float,
    scheduler: str | None,
    dry_run: bool,
) -> None:
    """Find the cuts that meet every limit of a target at the least visible loss, and write them into JOB.

    Loss is measured on real encodes; what is proposed has really been made and packed, unless it is wanted sooner, which is
    said. Exit status: 0 when every limit is met; 1 when one cannot be, with which, by how much and what is locked; 2 when
    JOB cannot be read; 130 after Ctrl+C, which keeps the best so far.
    """
    source = source_at(path)
    target = source.job.target(name)
    limits = limits_for(target, lines)
    if not limits:
        raise fail(f"{target.name} has no limit in bytes; give one with --line")
    cache = SurveyCache()
    inventory = run(survey_tree(source.root, source.job.scan_settings, source.job.build_spec, cache)).inventory
    ratios = CompressionRatios(inventory).merged(measured_before(cache))
    demand = look(source, inventory, (target,)).get(target.id)
    plan = resolve(inventory, target, source.job.cuts, ratios, source.job.rules, demand)
    locked = locked_by(plan, locks)
    bounds = bounds_of(source.job.role_rules, target, by_rules, Exchange(sound_worth, motion_worth))
    best: list[Fit] = []
    try:
        with made_by(scheduler, source.job.max_pixels) as ahead:
            task = propose(
                plan, ratios, cache, limits, locked, bounds, source.job.max_pixels,
                None if effort is None else Effort(effort), within, ahead,
            )  # fmt: skip
            found = run(task, lambda value: best.append(value) if isinstance(value, Fit) else None)
    except KeyboardInterrupt:
        if best and best[-1].solution is not None:
            _print_plan(best[-1], limits)
            if not dry_run:
                _write(best[-1], source, path)
        raise
    if found.solution is None:
        _print_missing(found, limits)
        raise SystemExit(EXIT_OVER)
    _print_plan(found, limits)
    if not dry_run:
        _write(found, source, path)


def _print_missing(found: Fit, limits: dict[str, int]) -> None:
    locked = f"; {found.problem.locked} textures are locked" if found.problem.locked else ""
    for line, by in found.missing.items():
        click.echo(
            f"oak-trim: {line}: {bytes_text(by)} over {bytes_text(limits[line])} even with everything at its least{locked}",
            err=True,
        )
    if not found.missing:
        click.echo(f"oak-trim: each limit can be met, but not all of them together{locked}", err=True)


def _print_plan(found: Fit, limits: dict[str, int]) -> None:
    problem, solution = found.problem, found.solution
    assert solution is not None
    rows = []
    for group in found.changed():
        pick = int(solution.picks[group])
        first = int(problem.choices.first[group])
        option, now, row = problem.option(pick), problem.option(first), problem.groups[group].rows[0]
        footprint = problem.plan.footprint
        side = max(int(footprint.width[row]), int(footprint.height[row]))
        more = len(problem.groups[group].rows) - 1
        cells = [bytes_text(int(cost)) for cost in problem.choices.cost[:, first] - problem.choices.cost[:, pick]]
        rows.append(
            (
                problem.plan.inventory.textures[row].path + (f" and {more} alike" if more else ""),
                f"{side} {now.label}",
                f"{option.side or side} {option.label}",
                *cells,
                f"{problem.jnd(pick):.2f}",
            )
        )
    heads = ["texture", "now", "proposed", *(f"{line} saved" for line in problem.lines), "JND"]
    console().print(table(heads, rows, right=tuple(range(3, 4 + len(problem.lines)))))
    for other, chosen in found.others():
        ships = other.options[0]
        costs = zip(problem.lines, ships.costs, chosen.costs, strict=True)
        saved = ", ".join(f"{line} −{bytes_text(a - b)}" for line, a, b in costs if a > b)
        click.echo(f"{other.path}: {chosen.label}, {saved}, {chosen.steps:.2f} steps")
    if problem.others:
        rate = problem.exchange
        click.echo(f"a step of a sound counts {rate.sounds:g}, one of a clip {rate.motion:g} of a picture's")
    click.echo("Why not better:")
    for group in found.changed():
        click.echo(f"  {problem.plan.inventory.textures[problem.groups[group].rows[0]].path}: {why(found, group)}")
    for line in problem.lines:
        total = problem.total(solution.picks, line)
        click.echo(
            f"{line}: {bytes_text(problem.plan.total(line))} becomes {bytes_text(total)} of {bytes_text(limits[line])}"
        )
    click.echo(
        f"visible loss {solution.loss:.3f}; at least {solution.bound:.3f} whatever is chosen ({solution.gap * 100:.2f} % apart)"
    )
    if found.basis is not Basis.MADE:
        click.echo(
            f"a first answer: losses are {found.basis.value}, packages may be estimates; {found.unmade} not made yet"
        )


def _write(found: Fit, source: Source, path: Path) -> None:
    groups = found.changed()
    job = with_fit(source.job, found, groups)
    save_job(job, path, source.root)
    changed = sum(len(found.problem.groups[group].rows) for group in groups)
    others = len(found.others())
    said = f"{changed} textures" + (f" and {others} sounds and clips" if others else "")
    click.echo(f"{shown(path)}: {said} cut, {len(job.cuts)} cuts in all")
