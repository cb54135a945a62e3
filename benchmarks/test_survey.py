"""Surveying and planning thousands of files, against Pillow's decoding of the same pictures."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest
from PIL import Image as PillowImage

from benchmarks.conftest import report, seconds
from benchmarks.trees import mixed_tree, surveyed_copies
from oaktrim.core.job.document import load_job, root_of, targets_of
from oaktrim.core.pixels.image import Image
from oaktrim.core.pixels.traits import traits_of
from oaktrim.core.plan.checks import example_checks, meets
from oaktrim.core.plan.commonrules import common_rules
from oaktrim.core.plan.cuts import Cap, Cut
from oaktrim.core.plan.forecast import forecast, half_width
from oaktrim.core.plan.lookalikes import look_alikes
from oaktrim.core.plan.packing import CompressionRatios
from oaktrim.core.plan.query import Assets, select
from oaktrim.core.plan.report import survey
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.progress import finish, map_unordered
from oaktrim.core.ship.run import ship
from oaktrim.core.survey import inventory as inventory_module
from oaktrim.core.survey import read
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.scan import scan
from oaktrim.core.targets.target import target_named

COUNT, COPIES = 5000, 10


def flat_image() -> Image:
    return Image.of(np.zeros((2, 2, 3), np.uint8))


@pytest.fixture(scope="module")
def tree(tmp_path_factory) -> Path:
    return mixed_tree(tmp_path_factory.mktemp("tree") / "art", COUNT)


@pytest.fixture(scope="module")
def large(tree, tmp_path_factory) -> tuple[Path, SurveyCache]:
    """50,000 files that are surveyed already."""
    folder = tmp_path_factory.mktemp("large")
    cache = SurveyCache(folder)
    return surveyed_copies(tree, folder / "art", cache, COPIES), cache


def test_survey(tree, tmp_path, benchmark):
    pictures = [path for path in sorted(tree.rglob("*")) if path.suffix in (".png", ".jpg", ".tga")]

    def load(path: Path) -> None:
        with PillowImage.open(path) as picture:
            picture.load()

    decoding = seconds(lambda: list(map_unordered(load, pictures, 2)), 2)
    cache = SurveyCache(tmp_path)
    first = seconds(lambda: finish(scan(tree, cache=cache)), 1)
    again = seconds(lambda: finish(scan(tree, cache=cache)), 3)
    what = "decoding its pictures with Pillow, 2 threads"
    report(f"survey {COUNT} mixed files, first time, 2 threads", what, f"{first / decoding:.1f}x time", "1.5x")
    report("  again, nothing changed", "the first time", f"{again / first:.4f}x, {again:.2f} s", "0.02x, 1 s")
    benchmark.pedantic(lambda: finish(scan(tree, cache=cache)), rounds=1)


def test_a_check_of_an_unchanged_tree(tree, tmp_path, benchmark):
    command = Path(sys.executable).parent / "oak-trim"
    asked = [command, "check", tree, "--report", tmp_path / "r.xml", "--report", tmp_path / "r.sarif"]

    def check() -> None:
        subprocess.run(asked, check=False, capture_output=True, env={**os.environ, "XDG_CACHE_HOME": str(tmp_path)})

    first, again = seconds(check, 1), seconds(check, 3)
    report(
        f"check {COUNT} files again, with two reports", "the first time", f"{again / first:.4f}x, {again:.2f} s", "2 s"
    )
    benchmark.pedantic(check, rounds=1)


def test_a_large_job(large, benchmark):
    root, cache = large
    reopened = seconds(lambda: finish(scan(root, cache=cache)), 2)
    inventory = finish(scan(root, cache=cache))
    count = len(inventory.textures) + len(inventory.others)
    ratios, target = CompressionRatios(inventory), target_named("pocket")
    paths = tuple(row.path for row in inventory.textures)
    sides = iter([2048, 1024, 512, 256, 128, 64, 32] * 50)

    def edit() -> None:
        plan = resolve(inventory, target, (Cut(Cap(next(sides)), paths),), ratios)
        for line in target.limit_bytes:
            plan.total(line)

    edit()
    plan = resolve(inventory, target, (), ratios)

    def filter_afresh() -> None:
        select("role:normal side>128 path:0", Assets(plan, plan, ()))

    memory = Assets(plan, plan, ()).numbers("memory")
    report(f"open a surveyed job of {count} assets, core", "", f"{reopened:.2f} s", "2 s")
    report("  a bulk cut on all of them, with totals", "", f"{seconds(edit, 10) * 1000:.0f} ms", "50 ms")
    report("  a filter over all of them", "", f"{seconds(filter_afresh, 5) * 1000:.0f} ms", "50 ms")
    sorting = seconds(lambda: np.argsort(memory, kind="stable"), 5)
    report("  a sort by memory", "", f"{sorting * 1000:.0f} ms", "50 ms")
    benchmark.pedantic(edit, rounds=3)


def test_guessing_roles_beside_a_survey(tree, tmp_path, benchmark, monkeypatch):
    """What the traits of pixels and guesses from them add to a first survey, by turns without them."""
    whole, bare = [], []
    nothing = traits_of(flat_image(), np.zeros((2, 2, 4), np.uint8))
    for turn in range(2):
        whole.append(seconds(lambda n=turn: finish(scan(tree, cache=SurveyCache(tmp_path / f"a{n}"))), 1))
        with monkeypatch.context() as patch:
            patch.setattr(read, "traits_of", lambda *_: nothing)
            patch.setattr(inventory_module, "guessed", lambda _, roles: roles)
            bare.append(seconds(lambda n=turn: finish(scan(tree, cache=SurveyCache(tmp_path / f"b{n}"))), 1))
    report(f"roles guessed of {COUNT} files", "the survey without", f"{min(whole) / min(bare):.2f}x", "1.1x")
    inventory = finish(scan(tree, cache=SurveyCache(tmp_path / "a0")))
    plan = resolve(inventory, target_named("pocket"))
    benchmark.pedantic(lambda: look_alikes(plan), rounds=2)


def test_rules_and_checks_on_a_large_job(large, benchmark):
    root, cache = large
    inventory = finish(scan(root, cache=cache))
    ratios, target = CompressionRatios(inventory), target_named("pocket")
    common = common_rules(target, inventory, lambda rules: resolve(inventory, target, (), ratios, rules))
    plan = resolve(inventory, target, (), ratios, common)
    assets = Assets(plan, plan, ())
    checks = [check for check in example_checks() if "has:" not in check.where]

    def check_afresh() -> None:
        for check in checks:
            meets(check, assets)

    check_afresh()
    rules = seconds(lambda: resolve(inventory, target, (), ratios, common), 5)
    found = seconds(lambda: common_rules(target, inventory, lambda r: resolve(inventory, target, (), ratios, r)), 1)
    report(f"rules of sizes and formats over {len(inventory.textures)}", "", f"{rules * 1000:.0f} ms", "50 ms")
    report("  the common rules found", "", f"{found:.2f} s", "2 s")
    each = seconds(check_afresh, 3) / len(checks)
    report(f"  a check, the mean of {len(checks)}", "", f"{each * 1000:.0f} ms", "50 ms")
    report("  groups of look-alikes", "", f"{seconds(lambda: look_alikes(plan), 2):.2f} s", "")
    benchmark.pedantic(check_afresh, rounds=1)


_WINDOW = """
import sys, time
from pathlib import Path
from PySide6.QtCore import QSettings
from PySide6.QtWidgets import QApplication
from oaktrim.core.configure import configure
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.desk.__main__ import configure_window
from oaktrim.desk.look.dress import dress_application
from oaktrim.desk.session.session import Session
from oaktrim.desk.shell.window import Window
root, cache, scratch = sys.argv[1:4]
QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, scratch)
configure()
configure_window()
app = QApplication(sys.argv[:1])
dress_application(app)
window = Window(Session(cache=SurveyCache(Path(cache))))
window.show()
app.processEvents()
started = time.perf_counter()
window.session.open(Path(root))
while not window.session.is_open:
    app.processEvents()
    time.sleep(0.002)
window.survey.ledger.viewport().repaint()
opened = time.perf_counter() - started
window.session.select(range(len(window.session.inventory.textures)))
from oaktrim.core.plan.cuts import Cap
started = time.perf_counter()
window.session.cut(Cap(128), everywhere=False, keep=False)
cut = time.perf_counter() - started
started = time.perf_counter()
window.survey.filters.line.setText("role:normal side>128")
filtered = time.perf_counter() - started
# The peak of this process alone: the one that getrusage states is handed down from whoever started it.
peak = next(line for line in Path("/proc/self/status").read_text().splitlines() if line.startswith("VmHWM:"))
print(opened, cut, filtered, int(peak.split()[1]) / 1024)
sys.stdout.flush()
import os
os._exit(0)
"""


def test_the_window_on_a_large_job(large, tmp_path, benchmark):
    root, cache = large
    command = [sys.executable, "-c", _WINDOW, str(root), str(cache.folder), str(tmp_path)]
    offscreen = {**os.environ, "QT_QPA_PLATFORM": "offscreen"}
    done = subprocess.run(command, capture_output=True, text=True, check=True, timeout=120, env=offscreen)
    opened, cut, filtered, memory = map(float, done.stdout.split())
    report("  in the window: open to a painted ledger", "", f"{opened:.2f} s", "2 s")
    report("  in the window: a cap dragged over all", "", f"{cut * 1000:.0f} ms", "50 ms")
    report("  in the window: a filter applied", "", f"{filtered * 1000:.0f} ms", "50 ms")
    report("  memory of that process", "", f"{memory:.0f} MiB", "600 MiB")
    benchmark.pedantic(lambda: None, rounds=1)


def test_forecast(demo, tmp_path, benchmark):
    """How far the estimated package is from what is really packed, over the demonstration."""
    job, cache = load_job(demo), SurveyCache(tmp_path)
    inventory = finish(scan(root_of(job, demo), job.scan_settings, cache))
    told = finish(survey(inventory, targets_of(job), cache, job.cuts, job.rules))
    errors, within = [], []
    for plan in told.plans:
        shipped = finish(ship(plan, tmp_path / plan.target.id))
        real = {s.line: s.value for s in shipped.statuses}
        errors.append(plan.total("package") / real["package"] - 1)
        report(
            f"forecast of the package, {plan.target.name}",
            "the package shipped",
            f"{errors[-1] + 1:.3f}x",
            "0.97 to 1.03x",
        )
        within.append(_within(plan, {entry.source: entry.package for entry in shipped.manifest.textures}))
    report("  mean error over the targets", "", f"{np.mean(np.abs(errors)) * 100:.1f} %", "3 %")
    report("  final figures within what is stated", "random subsets", f"{np.mean(within) * 100:.0f} %", "90 %")
    benchmark.pedantic(lambda: None, rounds=1)


def _within(plan, packed):
    """Return the share of random subsets, measured in part, whose final package lies within what is stated."""
    rng, textures = np.random.default_rng(0), plan.inventory.textures
    rows = np.array([row for row, texture in enumerate(textures) if texture.path in packed])
    real = np.array([packed[textures[row].path] for row in rows])
    estimates, formats = plan.package[rows].astype(np.float64), plan.formats[rows]
    inside = []
    for _ in range(300):
        some = rng.choice(len(rows), int(rng.integers(5, len(rows))), replace=False)
        largest = some[np.argsort(-estimates[some])][: int(rng.choice([0, 0.2, 0.5]) * len(some))]
        sizes = np.where(np.isin(some, largest), real[some], -1)
        found = forecast(estimates[some], formats[some], np.ones(len(some), np.bool_), sizes)
        inside.append(abs(int(found.package.sum()) - int(real[some].sum())) <= half_width(found.spread, ()))
    return np.mean(inside)
