"""The benches of the window, in the order of the rail. Adding one is a package of its own and a line here."""

from __future__ import annotations

from collections.abc import Callable

from oaktrim.desk.benches.atlas.bench import AtlasBench
from oaktrim.desk.benches.bench import Bench
from oaktrim.desk.benches.channels.bench import ChannelsBench
from oaktrim.desk.benches.imposters.bench import ImpostersBench
from oaktrim.desk.benches.proof.bench import ProofBench
from oaktrim.desk.benches.ship.bench import ShipBench
from oaktrim.desk.benches.sightlines.bench import SightlinesBench
from oaktrim.desk.benches.surface.bench import SurfaceBench
from oaktrim.desk.benches.survey.bench import SurveyBench
from oaktrim.desk.session.session import Session

BENCHES: list[Callable[[Session], Bench]] = [
    SurveyBench, SightlinesBench, ProofBench, ChannelsBench, AtlasBench, ImpostersBench, SurfaceBench,
    ShipBench,
]  # fmt: skip


def make_benches(session: Session) -> tuple[Bench, ...]:
    """Return one of each, on a session."""
    return tuple(make(session) for make in BENCHES)
