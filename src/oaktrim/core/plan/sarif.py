"""Limits and findings for code hosts: SARIF 2.1.0 (OASIS Standard, Errata 01)."""

from __future__ import annotations

import hashlib
from typing import Any

import msgspec

from oaktrim import __version__
from oaktrim.core.plan.baseline import LimitNow
from oaktrim.core.plan.gate import Gated, Outcome, Standing, name_of
from oaktrim.core.plan.repository import Repository
from oaktrim.core.survey.findings.finding import Severity

_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
_LIMIT = "limit"


def as_sarif(outcome: Outcome, job: str, repository: Repository) -> bytes:
    """Return an outcome as a SARIF log of one run.

    Parameters
    ----------
    job : where the job is that limits are shown at, as a reference
    """
    codes = list(dict.fromkeys(row.finding.code for row in outcome.findings))
    rules = [_LIMIT, *codes]
    results = [_limit(outcome, row, _location(job)) for row in outcome.over]
    for row in outcome.findings:
        result = _result(row, rules.index(row.finding.code), _location(repository.uri_of(row.finding.path)))
        if outcome.compared:
            result["baselineState"] = "unchanged" if row.standing is Standing.KNOWN else "new"
        results.append(result)
    driver = {
        "name": "Oak Trim",
        "version": __version__,
        "semanticVersion": __version__,
        "rules": [{"id": code, "shortDescription": {"text": _label(code)}} for code in rules],
    }
    run = {"tool": {"driver": driver}, "columnKind": "utf16CodeUnits", "results": results}
    log = {"$schema": _SCHEMA, "version": "2.1.0", "runs": [run]}
    return msgspec.json.format(msgspec.json.encode(log), indent=1) + b"\n"


def _location(uri: str) -> dict[str, Any]:
    # Code hosts want a line; pictures have none.
    return {"physicalLocation": {"artifactLocation": {"uri": uri}, "region": {"startLine": 1}}}


def _limit(outcome: Outcome, row: LimitNow, location: dict[str, Any]) -> dict[str, Any]:
    target = next(plan.target for plan in outcome.survey.plans if plan.target.id == row.target)
    line, value, limit, verdict = row.status.words(target)
    return {
        "ruleId": _LIMIT,
        "ruleIndex": 0,
        "level": "error",
        "message": {"text": f"{target.name}: {line} is {value} of {limit}: {verdict}"},
        "locations": [location],
        "partialFingerprints": {"oakTrim/v1": _fingerprint(_LIMIT, row.target, row.status.line.name)},
    }


def _result(row: Gated, place: int, location: dict[str, Any]) -> dict[str, Any]:
    finding = row.finding
    level = {Severity.ERROR: "error", Severity.WARNING: "warning", Severity.NOTE: "note"}[finding.severity]
    return {
        "ruleId": finding.code,
        "ruleIndex": place,
        "level": level,
        "message": {"text": f"{finding.path}: {finding.message}. What to do: {finding.remedy}."},
        "locations": [location],
        "partialFingerprints": {"oakTrim/v1": _fingerprint(finding.code, finding.path)},
        "properties": {"targets": list(finding.targets), "bytes": finding.bytes},
    }


def _fingerprint(*parts: str) -> str:
    """Return what a result is known by from run to run: what it is of, not what it says."""
    text = "\0".join(parts).encode("utf-8", "backslashreplace")
    return hashlib.blake2b(text, digest_size=16).hexdigest()


def _label(code: str) -> str:
    return "Over a limit" if code == _LIMIT else name_of(code)
