"""Cuts of models: what ships is what was forecast, counted and left out, on the one target that they are for."""

import json

import msgspec
import numpy as np
import pytest

from oaktrim.core.plan.cuts import Cut
from oaktrim.core.plan.modelcuts import (
    DropUnused,
    LeaveOut,
    MergeMaterials,
    OrderTriangles,
    QuantizeVertices,
    ReduceMotion,
)
from oaktrim.core.plan.outfits import outfits_of, saved_without
from oaktrim.core.plan.packing import CompressionRatios
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.plan.verdict import change_of, findings_of
from oaktrim.core.progress import finish
from oaktrim.core.ship.run import ship
from oaktrim.core.ship.weighing import measure_packages
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.targets.lines import byte_lines
from oaktrim.core.targets.target import target_named
from tests.core.trim.test_model import snake
from tests.kit import validator
from tests.kit.models import add_mesh, material
from tests.kit.trees import put, surveyed, write_model

MODEL = ("snake.glb",)
ALL = (
    Cut(DropUnused(), MODEL), Cut(MergeMaterials(), MODEL), Cut(OrderTriangles(), MODEL), Cut(QuantizeVertices(0.5), MODEL),
    Cut(ReduceMotion(1.0), ("snake.glb#animations/0",)),
)  # fmt: skip
COAT = Cut(LeaveOut(), ("snake.glb#nodes/coat",), ("visor",))


@pytest.fixture
def art(tmp_path):
    """A snake with a coat whose picture nothing else wears, and a hat that wears the snake's own."""
    root = tmp_path / "art"
    writer = snake()
    twin = json.loads(json.dumps(writer.json["materials"][0])) | {"name": "paint.001"}
    writer.json["materials"].append(twin)
    coat = material(writer, "coat", baseColorTexture=writer.image("coat_base.png"))
    hat = writer.add("nodes", name="hat", mesh=add_mesh(writer, 1))
    worn = writer.add("nodes", name="coat", mesh=add_mesh(writer, coat))
    writer.json["scenes"][0]["nodes"] += [worn, hat]
    write_model(root, "snake.glb", writer)
    put(root, "wood_base.png", size=(64, 64))
    put(root, "coat_base.png", size=(128, 128))
    return root


def on(name="visor"):
    found = target_named(name)
    limits = msgspec.structs.replace(
        found.limits, **dict.fromkeys(byte_lines(), "1 GiB"), materials=50, triangles=10_000, draws=50
    )
    return msgspec.structs.replace(found, limits=limits)


def test_what_was_measured_is_what_ships_and_it_is_valid(art, tmp_path):
    inventory, target, cache = surveyed(art), on(), SurveyCache(tmp_path)
    ratios, cuts = CompressionRatios(inventory), (*ALL, COAT)
    guessed = resolve(inventory, target, cuts, ratios)
    ratios = ratios.merged(finish(measure_packages(guessed, ratios, cache)))
    plan = resolve(inventory, target, cuts, ratios)
    assert plan.all_measured and not guessed.all_measured
    done = finish(ship(plan, tmp_path / "out"))
    shipped = {s.line.name: s.value for s in done.statuses}
    assert {line: plan.total(line) for line in byte_lines()} == {line: shipped[line] for line in byte_lines()}
    again = surveyed(tmp_path / "out")
    counted = again.counts
    assert (shipped["materials"], shipped["triangles"], shipped["draws"]) == (
        counted.materials, counted.triangles, counted.draws,
    )  # fmt: skip
    assert counted.materials == 1 and counted.draws == 2
    if validator.is_there():
        assert [e for e in validator.errors(tmp_path / "out/snake.glb") if "IO_ERROR" not in e] == []
    assert finish(ship(plan, tmp_path / "out")).beside == 0


def test_a_part_takes_only_its_own_textures_and_only_on_its_target(art, tmp_path):
    inventory = surveyed(art)
    names = [texture.path for texture in inventory.textures]
    on_visor, on_pocket = (resolve(inventory, on(name), (COAT,)) for name in ("visor", "pocket"))
    assert dict(zip(names, on_visor.left_out.tolist(), strict=True)) == {"coat_base.png": True, "wood_base.png": False}
    assert not on_pocket.left_out.any()
    assert on_visor.total("memory") == int(on_visor.memory[names.index("wood_base.png")])
    finish(ship(on_visor, tmp_path / "out"))
    assert not (tmp_path / "out/coat_base.ktx2").exists() and (tmp_path / "out/wood_base.ktx2").exists()
    # Shipped again with it, it is there again.
    finish(ship(resolve(inventory, on(), ()), tmp_path / "out"))
    assert (tmp_path / "out/coat_base.ktx2").exists()
    back = finish(ship(on_visor, tmp_path / "out"))
    assert back.removed == 1 and not (tmp_path / "out/coat_base.ktx2").exists()


def test_outfits_say_what_they_cost_alone_and_shared(art):
    inventory, target = surveyed(art), on()
    plan = resolve(inventory, target)
    outfits = {outfit.name: outfit for outfit in outfits_of(plan)}
    assert set(outfits) == {"snake", "coat", "hat"} and not any(row.left for row in outfits.values())
    coat, hat = outfits["coat"], outfits["hat"]
    rows = inventory.row_of
    assert (coat.alone, coat.shared) == ((rows["coat_base.png"],), ())
    assert (hat.alone, hat.shared, hat.materials, hat.triangles) == ((), (rows["wood_base.png"],), 1, 2)

    def planned(cuts):
        return resolve(inventory, target, cuts)

    saved = saved_without(plan, coat, ("memory", "unpacked"), planned)
    assert saved["memory"] == int(plan.memory[rows["coat_base.png"]]) and saved["unpacked"] > saved["memory"]
    assert saved_without(plan, hat, ("memory",), planned) == {"memory": 0}
    left = outfits_of(resolve(inventory, target, (COAT,)), "coat*")
    assert [row.name for row in left] == ["coat"] and left[0].left
    assert saved_without(resolve(inventory, target, (COAT,)), left[0], ("memory",), planned) == {
        "memory": saved["memory"]
    }


def test_findings_on_models_and_their_cuts(art):
    inventory, target = surveyed(art), on()
    found = {finding.code: finding for finding in findings_of(resolve(inventory, target))}
    for code in ("heavy-animation", "unused-vertex-data", "vertex-order"):
        cut = Cut(change_of(found[code].fix), (found[code].path,))
        assert code not in {f.code for f in findings_of(resolve(inventory, target, (cut,)))}
    assert "TANGENT" in found["unused-vertex-data"].message


def test_clips_that_do_nothing(tmp_path):
    writer = snake()
    times, still = np.array([0, 1], np.float32), np.zeros((2, 3), np.float32)
    sampler = {"input": writer.accessor(times, bounds=True), "output": writer.accessor(still)}
    writer.add(
        "animations",
        name="rest",
        samplers=[sampler],
        channels=[{"sampler": 0, "target": {"node": 0, "path": "translation"}}],
    )
    writer.add(
        "animations", name="lost", samplers=[sampler], channels=[{"sampler": 0, "target": {"path": "translation"}}]
    )
    write_model(tmp_path, "snake.glb", writer)
    plan = resolve(surveyed(tmp_path), on())
    codes = {(f.code, f.path.rpartition("#")[2]) for f in findings_of(plan)}
    assert {path for code, path in codes if code == "idle-motion"} == {"animations/1"}
    assert {path for code, path in codes if code == "unused-clip"} == {"animations/2"}
    gone = resolve(surveyed(tmp_path), on(), (Cut(LeaveOut(), ("snake.glb#animations/1",)),))
    assert gone.others.models.settings["snake.glb"].clips == (1,)


def test_a_clip_that_is_longer_than_all_others(tmp_path):
    writer = snake()
    still = np.zeros((2, 3), np.float32)
    for name, seconds in (("step", 1), ("jump", 2), ("turn", 19), ("wander", 21)):
        times = writer.accessor(np.array([0, seconds], np.float32), bounds=True)
        sampler = {"input": times, "output": writer.accessor(still)}
        channel = {"sampler": 0, "target": {"node": 0, "path": "translation"}}
        writer.add("animations", name=name, samplers=[sampler], channels=[channel])
    write_model(tmp_path, "snake.glb", writer)
    (finding,) = [f for f in findings_of(resolve(surveyed(tmp_path), on())) if f.code == "long-clip"]
    assert finding.path == "snake.glb#animations/4" and "wander: 21 s" in finding.message


def test_a_model_that_cannot_be_written_again_says_so(tmp_path):
    writer = snake()
    writer.json["nodes"][0]["extensions"] = {"ACME_cloth": {"accessor": 3}}
    write_model(tmp_path, "snake.glb", writer)
    plan = resolve(surveyed(tmp_path), on(), ALL)
    assert not plan.others.models.settings
    (finding,) = [f for f in findings_of(plan) if f.code == "not-trimmed"]
    assert "ACME_cloth" in finding.message
    assert not [f for f in findings_of(resolve(surveyed(tmp_path), on())) if f.code == "not-trimmed"]


def test_scenes_and_buffers_beside(tmp_path):
    """A document whose buffer stands beside it, and whose second scene is left out."""
    root = tmp_path / "art"
    writer = snake()
    extra = writer.add("nodes", name="crate", mesh=add_mesh(writer, 0))
    writer.json["scenes"].append({"name": "store", "nodes": [extra]})
    root.mkdir()
    text, binary = writer.gltf("snake.bin")
    (root / "snake.gltf").write_bytes(text)
    (root / "snake.bin").write_bytes(binary)
    put(root, "wood_base.png")
    cut = Cut(LeaveOut(), ("snake.gltf#scenes/store",))
    plan = resolve(surveyed(root), on(), (cut, *(Cut(c.change, ("snake.gltf",)) for c in ALL[:4])))
    finish(ship(plan, tmp_path / "out"))
    document = json.loads((tmp_path / "out/snake.gltf").read_bytes())
    assert len(document["nodes"]) == 7 and "nodes" not in document["scenes"][1]
    assert document["buffers"][0]["uri"] == "snake.bin"
    assert (tmp_path / "out/snake.bin").stat().st_size == document["buffers"][0]["byteLength"] < len(binary) * 0.6
    if validator.is_there():
        errors = validator.errors(tmp_path / "out/snake.gltf")
        assert [e for e in errors if "IO_ERROR" not in e] == []


@pytest.mark.parametrize("make", [lambda: ReduceMotion(0), lambda: ReduceMotion(1, 100), lambda: QuantizeVertices(-1)])
def test_bounds_that_cannot_be(make):
    with pytest.raises(ValueError, match="not"):
        make()
