"""What fails a build, as JUnit XML: a test for each limit, and for each finding; what is clean of a rule is one that passes.

The format has no standard; this is the part of it that build servers agree on: `testsuites`, `testsuite` with its counts,
`testcase` with `failure` or `skipped`.
"""

from __future__ import annotations

import re
from xml.etree import ElementTree

from oaktrim.core.errors import shown
from oaktrim.core.plan.baseline import LimitNow
from oaktrim.core.plan.checks import Checks
from oaktrim.core.plan.gate import FAULTS, Gated, Outcome, Standing, name_of
from oaktrim.core.plan.repository import Repository
from oaktrim.core.survey.findings.rules import LABELS

# What XML 1.0, production 2, has no place for.
_NO_CHARACTER = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def as_junit(outcome: Outcome, repository: Repository) -> bytes:
    """Return an outcome as JUnit XML, files told from a repository."""
    root = ElementTree.Element("testsuites", name="Oak Trim")
    for plan in outcome.survey.plans:
        limits = [row for row in outcome.limits if row.target == plan.target.id]
        suite = ElementTree.SubElement(root, "testsuite", name=f"limits of {_text(plan.target.name)}")
        for row in limits:
            _limit(suite, row, outcome, plan.target.id)
    suite = ElementTree.SubElement(root, "testsuite", name="findings")
    codes = {row.finding.code for row in outcome.findings}
    for gated in outcome.findings:
        _finding(suite, gated, shown(repository.path_of(gated.finding.path)))
    for code in _all_codes(outcome.survey.checks):
        if code not in codes:
            ElementTree.SubElement(suite, "testcase", classname=f"oak-trim.{code}", name=name_of(code), time="0")
    for element in root:
        _count(element, [element])
    _count(root, list(root))
    ElementTree.indent(root)
    data: bytes = ElementTree.tostring(root, encoding="utf-8", xml_declaration=True)
    return data + b"\n"


def _limit(suite: ElementTree.Element, row: LimitNow, outcome: Outcome, target: str) -> None:
    plan = next(plan for plan in outcome.survey.plans if plan.target.id == target)
    line, value, limit, verdict = row.status.words(plan.target)
    case = ElementTree.SubElement(suite, "testcase", classname=f"oak-trim.limits.{target}", name=line, time="0")
    said = f"{line} is {value} of {limit}: {verdict}"
    if row in outcome.over:
        ElementTree.SubElement(case, "failure", type="limit", message=said).text = said
    elif row.status.over:
        ElementTree.SubElement(case, "skipped", message=f"{said}, and not worse than it was")


def _finding(suite: ElementTree.Element, row: Gated, file: str) -> None:
    finding = row.finding
    case = ElementTree.SubElement(
        suite, "testcase", classname=f"oak-trim.{finding.code}", name=_text(finding.path),
        file=_text(file), time="0",
    )  # fmt: skip
    said = _text(f"{name_of(finding.code)}: {finding.message}")
    if row.standing is Standing.FAILS:
        failure = ElementTree.SubElement(case, "failure", type=finding.severity.value, message=said)
        failure.text = _text(f"{finding.path}: {finding.message}. What to do: {finding.remedy}.")
    else:
        ElementTree.SubElement(case, "skipped", message=f"{finding.severity.value}, {row.standing.value}. {said}")


def _count(element: ElementTree.Element, suites: list[ElementTree.Element]) -> None:
    """Set how many tests some suites hold on the element that says it."""
    for name, path in (("tests", "testcase"), ("failures", "testcase/failure"), ("skipped", "testcase/skipped")):
        element.set(name, str(sum(len(suite.findall(path)) for suite in suites)))
    element.set("errors", "0")
    element.set("time", "0")


def _all_codes(checks: Checks) -> list[str]:
    return [*FAULTS, *LABELS, *(check.name for check in checks.own)]


def _text(text: str) -> str:
    return _NO_CHARACTER.sub("\ufffd", text)
