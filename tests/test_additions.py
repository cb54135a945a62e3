"""Each kind of thing that can be added is added in one place, and walks through survey, plan, ship, command line and window."""

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest


@pytest.fixture(scope="module")
def met(tmp_path_factory):
    """What a process met that had one more format, line, target, finding and maker than the product."""
    folder = tmp_path_factory.mktemp("additions")
    done = subprocess.run(
        [sys.executable, "-m", "tests.kit.walk_additions", str(folder)],
        cwd=Path(__file__).parents[1],
        env=os.environ | {"QT_QPA_PLATFORM": "offscreen", "XDG_CACHE_HOME": str(folder / "xdg")},
        capture_output=True,
        text=True,
        timeout=250,
        check=False,
    )
    assert done.returncode == 0, done.stderr[-4000:]
    return json.loads(done.stdout.splitlines()[-1])


def test_a_format(met):
    assert "turned8" in met["formats"]
    assert met["mask"][:2] == ["turned8", 16] and 40 < met["mask"][2] < 220


def test_a_target_with_a_line_of_its_own(met):
    (target,) = met["survey"]["targets"]
    lines = {row["line"]: row for row in target["limits"]}
    assert lines["half-memory"]["limit"] == 100 << 10
    assert 0 < 2 * lines["half-memory"]["bytes"] <= lines["memory"]["bytes"] <= 2 * lines["half-memory"]["bytes"] + 8
    assert "half the memory" in met["ship"]
    assert met["window"]["rulers"] == ["half-memory", "memory"]
    assert "half_memory" in met["window"]["limits"]


def test_a_finding(met):
    assert {f["path"] for f in met["survey"]["findings"] if f["code"] == "square"} == {
        "brick_base_twins_base", "brick_base_twins_mask",
    }  # fmt: skip
    assert "square" in met["window"]["findings"]


def test_a_maker_of_textures_a_model_and_a_file(met):
    assert met["kept"]
    assert "twins: brick_base_twins, of brick_base.png" in met["show"]
    shown = {row["path"]: row for row in met["survey"]["textures"]}
    assert set(shown) == {"brick_base_twins_base", "brick_base_twins_mask", "loose.png"}
    assert met["survey"]["made"][0]["kind"] == "twins"
    assert met["files"] == [
        "brick_base_twins.glb", "brick_base_twins.twins.txt", "brick_base_twins_base.ktx2", "brick_base_twins_mask.ktx2",
        "loose.ktx2", "manifest.json",
    ]  # fmt: skip
    assert "0 written" in met["again"]
    assert met["window"]["ledger"] == sorted(shown) and met["window"]["models"] == ["brick_base_twins.glb"]
