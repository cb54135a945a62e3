"""What other jobs on the same tree would ship: one state of all that this takes, for any thread to ask."""

from __future__ import annotations

from dataclasses import dataclass

from oaktrim.core.job.document import Job
from oaktrim.core.makers.build import Learned, with_makers
from oaktrim.core.plan.packing import PackedShares
from oaktrim.core.plan.resolve import Plan, resolve
from oaktrim.core.survey.inventory import Inventory
from oaktrim.core.targets.target import Target


@dataclass(frozen=True)
class Planner:
    """A job with what is known of its tree.

    Parameters
    ----------
    found : what files hold; inventory : with what the job's makers make of it
    shares : how the inventory packs
    """

    job: Job
    found: Inventory
    learned: Learned
    inventory: Inventory
    shares: PackedShares

    def plan_of(self, job: Job, target: Target) -> Plan:
        """Return what a job on the same tree would ship to a target."""
        inventory, shares = self.inventory, self.shares
        if (job.makers, job.layouts) != (self.job.makers, self.job.layouts):
            found = self.found.with_roles(job.role_patterns, job.roles)
            inventory = with_makers(found, job.orders, self.learned)
            shares = shares.moved(inventory)
        return resolve(inventory, target, job.cuts, shares, job.role_rules)
