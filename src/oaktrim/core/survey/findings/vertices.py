"""Vertex data that no material needs, that is stored twice, or that stands in an order which caches do not like."""

from __future__ import annotations

from collections.abc import Iterator

from oaktrim.core.survey.findings.finding import Finding, Fix, Remedy, RuleContext, Severity
from oaktrim.core.units import bytes_text

_WORTH = 1 << 10
# Triangles of a model that is worth ordering, and what has to come of it: vertices worked on for each triangle.
_TRIANGLES, _BETTER = 500, 0.15


def unused_vertex_data(context: RuleContext) -> Iterator[Finding]:
    """Attributes that nothing reads, indices wider than they need to be, meshes stored twice."""
    for model in context.inventory.models:
        facts = model.vertices
        saved = sum(facts.unused.values()) + facts.narrow
        if model.path in context.trimmed or (saved < _WORTH and not facts.twins):
            continue
        said = [f"{name} ({bytes_text(size)})" for name, size in sorted(facts.unused.items(), key=lambda row: -row[1])]
        parts = [f"no material needs {', '.join(said)}"] if said else []
        parts += [f"indices in 16 bits save {bytes_text(facts.narrow)}"] if facts.narrow else []
        parts += [f"{facts.twins} meshes are another's copies"] if facts.twins else []
        yield context.finding(
            "unused-vertex-data", Severity.NOTE, model.path, "; ".join(parts), saved, "leave out what is unused",
            Fix(Remedy.UNUSED, 1),
        )  # fmt: skip


def vertex_order(context: RuleContext) -> Iterator[Finding]:
    """Triangles whose vertices are worked on more often than they need to be."""
    for model in context.inventory.models:
        facts = model.vertices
        if facts.triangles < _TRIANGLES or model.path in context.trimmed:
            continue
        before, after = facts.misses / facts.triangles, facts.ordered / facts.triangles
        if before - after >= _BETTER:
            yield context.finding(
                "vertex-order", Severity.NOTE, model.path,
                f"{before:.2f} vertices are worked on for each triangle with a cache of 16; {after:.2f} in a better order", 0,
                "order its triangles", Fix(Remedy.ORDER, 1),
            )  # fmt: skip


def not_trimmed(context: RuleContext) -> Iterator[Finding]:
    """A model that is cut and has to ship as it is."""
    for path, why in context.refused.items():
        yield context.finding(
            "not-trimmed",
            Severity.WARNING,
            path,
            f"its cuts do nothing, {why}",
            0,
            "export it again, or remove its cuts",
        )
