"""Planks add up, and count what is shared once; pasted columns do what they say."""

import numpy as np
import pytest
import soundfile

from oaktrim.core.files.gltfwriter import GltfWriter
from oaktrim.core.plan.breakdown import Grouping, asset_costs, breakdown
from oaktrim.core.plan.cuts import Cap, SetFormat
from oaktrim.core.plan.paste import FORMAT, ROLE, SIZE, paste
from oaktrim.core.survey.roles import Role
from tests.kit.models import add_mesh, material, scene
from tests.kit.trees import planned, put, write_model


@pytest.fixture
def plan(tmp_path):
    put(tmp_path, "art/oak_base.png", size=(256, 256))
    put(tmp_path, "art/oak_n.png", size=(128, 128))
    put(tmp_path, "loose.png", size=(64, 64))
    soundfile.write(tmp_path / "gull.wav", np.zeros(8000), 8000)
    writer = GltfWriter()
    oak, normal = writer.image("art/oak_base.png"), writer.image("art/oak_n.png")
    planks = material(writer, "planks", baseColorTexture=oak, normalTexture=normal)
    mast = material(writer, "mast", baseColorTexture=oak)
    for name, number in (("hull", planks), ("pole", mast), ("oar", mast)):
        writer.add("nodes", name=name, mesh=add_mesh(writer, number))
    scene(writer, 0, 1, 2, name="boat")
    write_model(tmp_path, "boat.glb", writer)
    return planned(tmp_path, "pocket")


@pytest.mark.parametrize("grouping", Grouping)
@pytest.mark.parametrize("line", ["memory", "package", "unpacked"])
def test_boards_add_up_to_the_total(plan, grouping, line):
    tree = breakdown(plan.inventory, grouping)
    costs = tree.costs(asset_costs(plan, line))
    assert costs[0] == pytest.approx(plan.total(line))
    for board, below in enumerate(tree.children()):
        if below:
            assert costs[board] == pytest.approx(sum(costs[b] for b in below))


def test_what_is_shared_stands_at_every_owner(plan):
    tree = breakdown(plan.inventory, Grouping.OWNER)
    costs = tree.costs(asset_costs(plan, "memory"))
    ratios = {}
    for board, name in enumerate(tree.names):
        if name == "oak_base.png":
            material_board = tree.parent[board]
            key = tree.names[tree.parent[material_board]], tree.names[material_board]
            ratios[key] = costs[board] / plan.footprint.memory[0]
    assert ratios == {k: pytest.approx(1 / 3) for k in (("hull", "planks"), ("pole", "mast"), ("oar", "mast"))}
    assert tree.names[tree.parent[tree.names.index("loose.png")]] == "Base colour"


def test_a_pasted_column(plan):
    rows = [0, 1, 2]
    sizes = paste(SIZE, ["128²", "64x32", "4096"], rows, plan, ("pocket",))
    assert [(cut.change, cut.assets, cut.targets) for cut in sizes.cuts] == [
        (Cap(128), ("art/oak_base.png",), ("pocket",)), (Cap(64), ("art/oak_n.png",), ("pocket",)),
    ]  # fmt: skip
    assert sizes.refused == (("loose.png", "4096", "a texture is never enlarged: its source has 64"),)
    assert sizes.changes[0] == ("art/oak_base.png", "256", "128")
    formats = paste(FORMAT, ["BC3 ▲", "rgba8", "zip"], rows, plan, ())
    assert [cut.change for cut in formats.cuts] == [SetFormat("bc3")], "what is so already is no change"
    assert formats.refused[0][:2] == ("loose.png", "zip")
    roles = paste(ROLE, ["Normal"], rows, plan, ())
    assert roles.roles == ((Role.NORMAL, ("art/oak_base.png", "loose.png")),)
    assert "2 values for 3 rows" in paste(ROLE, ["mask", "odd"], rows, plan, ()).refused[-1][2]
