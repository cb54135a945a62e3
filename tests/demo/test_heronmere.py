"""The demonstration: over every budget as it is, under with its cuts, the mistakes in it found, and the same each time."""

import hashlib

import numpy as np
import pytest

from oaktrim.core.job.document import checks_of, load_job, root_of, targets_of
from oaktrim.core.makers.build import survey_tree
from oaktrim.core.plan.ladder import ladder_of
from oaktrim.core.plan.report import survey
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.plan.status import limits_of
from oaktrim.core.plan.verdict import findings_of
from oaktrim.core.progress import finish
from oaktrim.core.sight.demand import demand_of
from oaktrim.core.survey.facts import NODE_MARK
from oaktrim.core.survey.findings.rules import LABELS
from oaktrim.core.survey.roles import Certainty
from oaktrim.demo.motifs import MOTIFS
from oaktrim.demo.signface import sign_font


@pytest.mark.slow
def test_the_story_that_it_tells(demo_job, cache):
    job = load_job(demo_job)
    tree = finish(survey_tree(root_of(job, demo_job), job.scan_settings, job.build_spec, cache))
    found, inventory = tree.found, tree.inventory
    assert 70 <= len(inventory.textures) <= 95
    assert {d.name for d in inventory.made.values()} == {maker.name for maker in job.makers} and not inventory.unmade
    assert {"reeds/reed_bank_far.glb", "rack/bicycle_rack_far.glb"} < {model.path for model in inventory.models}
    assert {path.split("/")[0] for path in inventory.replaced} == {"warden", "jetty", "posts"}
    assert len(inventory.replaced) == 8, (
        "the boots' maps ship as one, the jetty's planks and the posts' bark are made usable"
    )
    sides = np.maximum(inventory.width, inventory.height)
    assert (sides.min(), sides.max()) == (64, 4096)
    assert [u.path for u in inventory.unreadable] == ["posts/torn_base.png"]
    paths = {path for cut in job.cuts for path in cut.assets if cut.thing == "texture"}
    assert paths <= set(inventory.row_of), "a cut is on a texture that is not there"
    others = {path for cut in job.cuts for path in cut.assets if cut.thing in ("sound", "clip", "model")}
    assert others <= {row.path for row in inventory.others}, "a cut is on a sound, a clip or a model that is not there"
    parts = {path for cut in job.cuts for path in cut.assets if cut.thing == "part"}
    nodes = {f"{model.path}{NODE_MARK}{node.name}" for model in inventory.models for node in model.nodes}
    assert parts and parts <= nodes, "a cut is on a part that is not there"
    uncut = [resolve(inventory, target) for target in targets_of(job)]
    for plan in uncut:
        assert all(s.over for s in limits_of(plan) if s.line.in_bytes), plan.target.id
    told = finish(survey(inventory, targets_of(job), cache, job.cuts, job.rules, checks_of(job, inventory.root)))
    # Cuts bring every total of bytes under its limit; too many materials, triangles and draws are left to makers.
    over = [(plan.target.id, s.line.name) for plan in told.plans for s in limits_of(plan) if s.over]
    assert over == [("visor", "materials"), ("visor", "triangles"), ("visor", "draws")]
    codes = {finding.code for finding in told.findings} | {f.code for plan in uncut for f in findings_of(plan)}
    pocket = targets_of(job)[0]
    demand = finish(demand_of(inventory, pocket, job.sightlines, lambda _: np.zeros(len(inventory.textures), bool)))
    seen = findings_of(resolve(inventory, pocket, job.cuts, rules=job.rules, demand=demand))
    by_path = {(f.code, f.path): f for f in seen}
    assert ("levels-to-spare", "lantern/lantern_base.png") in by_path
    short = by_path["levels-short", "kiosk/kiosk_sign.png"]
    assert short.message.startswith("1 level short at kiosk door")
    codes |= {finding.code for finding in seen}
    # What the job's makers have put right already is found in the tree as it was.
    made_right = {"tiling-seam", "baked-light"}
    assert not codes & made_right
    codes |= {finding.code for finding in findings_of(resolve(found, pocket))} & made_right
    # The demo's sounds and clips are sound: these are not planted in it, and none of them may be found.
    unplanted = {
        "clipped", "long-clip", "long-silence", "not-trimmed", "rate-to-spare", "stereo-is-mono", "unused-clip",
    }  # fmt: skip
    assert not codes & unplanted
    assert codes | unplanted == set(LABELS), "each other finding is to occur at least once"
    planks = inventory.textures[inventory.row_of["jetty/planks_base_surface"]]
    photograph = found.textures[found.row_of["jetty/planks_base.jpg"]]
    assert planks.seam < 1.6 < photograph.seam and planks.light < 1 < photograph.light
    bark = inventory.textures[inventory.row_of["posts/post_base_surface"]]
    photograph = found.textures[found.row_of["posts/post_base.png"]]
    assert bark.light < 0.7 * photograph.light
    scene = next(model for model in inventory.models if model.path == "landing.gltf")
    assert scene.faults == () and len(scene.objects) == 12
    assert len(inventory.ownership.owners) > 45 and len(inventory.audio) == 3
    roles = {t.path: g.certainty for t, g in zip(inventory.textures, inventory.roles, strict=True)}
    assert roles["reeds/reed_n.png"] is Certainty.STATED and roles["shore/foam_mask.png"] is Certainty.NAMED
    stacked = [ladder_of(plan, inventory.row_of["reeds/reed_base.png"]).warnings for plan in told.plans[:2]]
    assert all("both apply" in warnings[0] for warnings in stacked)


def test_the_same_seed_draws_the_same_pictures():
    _, seed, motif = MOTIFS[-1]
    one, two = (
        {
            name: hashlib.blake2b(np.ascontiguousarray(pixels).data).hexdigest()
            for name, pixels in motif(np.random.default_rng(seed)).items()
        }
        for _ in range(2)
    )
    assert one == two
    assert sign_font() == sign_font()
