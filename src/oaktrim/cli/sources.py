"""From a path on the command line, a folder or a job, to an inventory with its targets and cuts."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

import click

from oaktrim.cli.progress import run
from oaktrim.core.errors import FileError, OakTrimError
from oaktrim.core.job.document import SUFFIX, Job, checks_of, load_job, new_job, root_of, targets_of
from oaktrim.core.makers.build import survey_tree
from oaktrim.core.plan.checks import Checks
from oaktrim.core.plan.measured import measured_plans
from oaktrim.core.plan.report import Survey, survey
from oaktrim.core.plan.resolve import Plan
from oaktrim.core.plan.rolerules import needs_demand
from oaktrim.core.settings import load_settings
from oaktrim.core.sight.targets import demands_of
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.demand import Demand
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.targets.target import Target


@dataclass(frozen=True)
class Source:
    """A job, as read or made for a folder, and its absolute root."""

    job: Job
    root: Path

    @cached_property
    def checks(self) -> Checks:
        """All that the job says of findings."""
        return checks_of(self.job, self.root)


def source_at(path: Path) -> Source:
    """Return the job in a file, or a new one for a folder.

    Raises
    ------
    OakTrimError : neither a folder nor a job that can be read
    """
    if path.is_dir():
        return Source(new_job(path, load_settings()), path.absolute())
    if not path.exists():
        raise FileError(path, "there is no such folder or job")
    if path.suffix != SUFFIX:
        raise FileError(path, f"is neither a folder nor a job; a job's name ends in {SUFFIX}")
    job = load_job(path)
    return Source(job, root_of(job, path))


def look(source: Source, inventory: Inventory, targets: tuple[Target, ...], always: bool = True) -> dict[str, Demand]:
    """Look from a job's sightlines and return what they ask for on targets, by their ids.

    Parameters
    ----------
    always : wherever there are sightlines; else only for targets whose role rules go by them

    Raises
    ------
    OakTrimError : a model cannot be read, or a filter not be understood, and role rules go by what is seen; else that is said,
        and nothing is known of what is seen
    """
    job = source.job
    needed = any(needs_demand(job.role_rules, target.id) for target in targets)
    asked = tuple(t for t in targets if needs_demand(job.role_rules, t.id) or (always and job.sightlines))
    if not asked:
        return {}
    try:
        return run(demands_of(inventory, asked, job.sightlines, job.max_pixels))
    except OakTrimError as error:
        if needed:
            raise
        click.echo(f"oak-trim: nothing is looked at from the sightlines: {error}", err=True)
        return {}


@dataclass(frozen=True)
class _Weighing:
    """A source's inventory and the targets that it is weighed on.

    Parameters
    ----------
    demands : what its sightlines ask for, by target
    """

    inventory: Inventory
    targets: tuple[Target, ...]
    demands: dict[str, Demand]
    cache: SurveyCache


def _weighing_of(source: Source, names: tuple[str, ...], seen: bool) -> _Weighing:
    targets = tuple(source.job.target(name) for name in dict.fromkeys(names)) or targets_of(source.job)
    cache = SurveyCache()
    inventory = run(survey_tree(source.root, source.job.scan_settings, source.job.build_spec, cache)).inventory
    return _Weighing(inventory, targets, look(source, inventory, targets, seen), cache)


def weigh_source(source: Source, names: tuple[str, ...]) -> Survey:
    """Survey a source on the named targets, or on its own."""
    w, job = _weighing_of(source, names, seen=True), source.job
    return run(survey(w.inventory, w.targets, w.cache, job.cuts, job.rules, source.checks, w.demands))


def plans_of(source: Source, names: tuple[str, ...] = ()) -> tuple[Plan, ...]:
    """Return what a source ships as on the named targets, or on its own; no findings are looked for.

    Its sightlines are asked only where role rules go by them.
    """
    w, job = _weighing_of(source, names, seen=False), source.job
    return run(measured_plans(w.inventory, w.targets, w.cache, job.cuts, job.rules, w.demands))


def plan_of(source: Source, name: str) -> Plan:
    """Return what a source ships as on a target, or on its first where the name is empty."""
    return plans_of(source, (name,) if name else source.job.targets[:1])[0]
