"""A check from the beginning, with all of the core that it takes."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from oaktrim.cli.exits import EXIT_OVER
from oaktrim.cli.sources import Source, source_at, weigh_source
from oaktrim.cli.survey import WRITERS, finding_lines, limit_line
from oaktrim.core.configure import configure_work
from oaktrim.core.errors import shown
from oaktrim.core.plan.baseline import read_earlier
from oaktrim.core.plan.gate import Gate, Outcome, Standing, changed_since, judge_build
from oaktrim.core.plan.junit import as_junit
from oaktrim.core.plan.lastcheck import Inputs, LastCheck
from oaktrim.core.plan.repository import Repository
from oaktrim.core.plan.sarif import as_sarif
from oaktrim.core.survey.findings.finding import Severity
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.units import counted

_LONGEST_LIST = 50


@dataclass(frozen=True)
class Ask:
    """What is to be checked, as the command line says."""

    path: Path
    targets: tuple[str, ...]
    fail_on: str
    baseline: Path | None
    since: Path | None
    reports: tuple[Path, ...]

    def look(self, wanted: set[str]) -> LastCheck:
        """Check it, and return all that came of it with reports of the wanted endings.

        Raises
        ------
        OakTrimError : the job, the baseline or another file cannot be read or understood
        """
        configure_work()
        source = source_at(self.path)
        inputs = self._inputs(source)
        before = inputs.state()
        baseline = None if self.baseline is None else read_earlier(self.baseline)
        found = weigh_source(source, self.targets)
        changed = None if self.since is None else changed_since(found, self.since, Path.cwd())
        severity = None if self.fail_on == "never" else Severity(self.fail_on)
        outcome = judge_build(found, Gate(severity, baseline, changed))
        repository = Repository.at(Path.cwd(), source.root)
        writers: dict[str, Callable[[], bytes]] = {
            ".xml": lambda: as_junit(outcome, repository),
            ".sarif": lambda: as_sarif(outcome, repository.uri_of_file(self.path), repository),
        }
        reports = {e: writers[e]() if e in writers else WRITERS[e](found) for e in sorted(wanted)}
        # What has changed while it was looked at is looked at again the next time.
        steady = before == inputs.state()
        all_inputs = self._inputs(source, found.inventory)
        state = all_inputs.state() if steady else ""
        status = EXIT_OVER if outcome.failed else 0
        return LastCheck(all_inputs, state, status, "\n".join(_lines(outcome)), reports)

    def _inputs(self, source: Source, inventory: Inventory | None = None) -> Inputs:
        """Return what is looked at; what models are read with is known once there is an inventory."""
        shared = [os.path.normpath(source.root / name) for name in source.job.check_files]
        asked = (self.path, self.baseline, self.since)
        files = [os.fspath(path.absolute()) for path in asked if path is not None and not path.is_dir()]
        models = () if inventory is None else inventory.models
        read = {os.fspath(source.root / name) for model in models for name, _, _ in model.files}
        apart = tuple(os.path.realpath(report) for report in self.reports)
        return Inputs(os.fspath(source.root), source.job.scan_settings.ignore, (*files, *shared, *sorted(read)), apart)


def _lines(outcome: Outcome) -> Iterator[str]:
    found, failing = outcome.survey, outcome.failing
    root = shown(found.inventory.root)
    yield f"{root}: {counted(len(found.inventory.textures), 'texture')} in {counted(found.inventory.files, 'file')}"
    for row in outcome.over:
        yield limit_line(row, outcome.compared)
    yield from finding_lines(failing[:_LONGEST_LIST])
    if len(failing) > _LONGEST_LIST:
        yield f"... and {len(failing) - _LONGEST_LIST} findings more: the reports list all"
    others = [
        f"{number} {what}"
        for standing, what in (
            (Standing.KNOWN, "known before"),
            (Standing.UNTOUCHED, "on files that have not changed"),
            (Standing.MILDER, "milder"),
        )
        if (number := sum(row.standing is standing for row in outcome.findings))
    ]
    if outcome.failed:
        said = f"Fails: {counted(len(outcome.over), 'limit')} and {counted(len(failing), 'finding')}"
    else:
        said = f"Passes: nothing {'got worse' if outcome.compared else 'stands against it'}"
    yield said + (f"; other findings: {', '.join(others)}." if others else ".")
