"""What other jobs on the same tree would ship: one state of all that this takes, for any thread to ask."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from oaktrim.core.job.document import Job
from oaktrim.core.makers.build import DerivedFacts, with_makers
from oaktrim.core.plan.packing import CompressionRatios
from oaktrim.core.plan.resolve import Plan, resolve
from oaktrim.core.survey.demand import Demand
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.targets.target import Target


@dataclass(frozen=True)
class Planner:
    """A job with what is known of its tree.

    Parameters
    ----------
    found : what files hold; inventory : with what the job's makers make of it
    ratios : how the inventory packs
    demands : what sightlines ask for, by target, where it is known
    """

    job: Job
    found: Inventory
    derived_facts: DerivedFacts
    inventory: Inventory
    ratios: CompressionRatios
    demands: Mapping[str, Demand]

    def plan_of(self, job: Job, target: Target) -> Plan:
        """Return what a job on the same tree would ship to a target."""
        inventory, ratios, demand = self.inventory, self.ratios, self.demands.get(target.id)
        if (job.makers, job.layouts) != (self.job.makers, self.job.layouts):
            found = self.found.with_roles(job.role_patterns, job.roles)
            inventory = with_makers(found, job.build_spec, self.derived_facts)
            ratios = ratios.moved(inventory)
            # Its rows are those of the inventory that it was asked of.
            demand = None
        return resolve(inventory, target, job.cuts, ratios, job.rules, demand)
