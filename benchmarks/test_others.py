"""Sounds forecast and shipped, against libsndfile encoding them alone; clips reduced."""

import io
import time
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
import soundfile

from benchmarks.conftest import report
from oaktrim.core.plan.cuts import Cut
from oaktrim.core.plan.excerpts import measure_excerpts, missing_excerpts
from oaktrim.core.plan.packing import CompressionRatios
from oaktrim.core.plan.resolve import resolve
from oaktrim.core.plan.soundcuts import SetCodec
from oaktrim.core.progress import finish
from oaktrim.core.ship.run import ship
from oaktrim.core.sounds.codecs import SoundCodec
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.core.survey.scan import scan
from oaktrim.core.targets.target import target_named
from oaktrim.core.trim.motion import Curve, Hierarchy, MotionBound, reduce_motion

# A sixth of the hour that is wanted, in as many sounds for each second.
SOUNDS, SECONDS, RATE = 32, 18, 48_000


@pytest.fixture(scope="module")
def tree(tmp_path_factory):
    root = tmp_path_factory.mktemp("sounds")
    rng = np.random.default_rng(0)
    knots = np.arange(0, RATE * SECONDS + 4800, 4800)
    t = np.arange(RATE * SECONDS)
    for n in range(SOUNDS):
        level = np.interp(t, knots, rng.uniform(0, 1, len(knots)))
        tone = np.sin(2 * np.pi * rng.uniform(100, 1000) * t / RATE) * 0.2
        both = np.stack([tone + rng.normal(0, 0.1, len(t)) * level for _ in range(2)], axis=1)
        soundfile.write(root / f"{n:03}.wav", both.astype(np.float32), RATE)
    return root


def alone(path):
    with (
        soundfile.SoundFile(path) as source,
        soundfile.SoundFile(io.BytesIO(), "w", RATE, 2, format="OGG", subtype="VORBIS", compression_level=0.7) as out,
    ):
        while len(block := source.read(4096, dtype="float32", always_2d=True)):
            out.write(block)


def test_sounds_forecast_and_shipped(tree, tmp_path, benchmark):
    inventory, target, cache = finish(scan(tree)), target_named("pocket"), SurveyCache(tmp_path)
    cut = Cut(SetCodec(SoundCodec.VORBIS, 0.3), tuple(sound.path for sound in inventory.audio))
    ratios = CompressionRatios(inventory)
    plan = resolve(inventory, target, (cut,), ratios)
    start = time.perf_counter()
    ratios = ratios.merged(finish(measure_excerpts(tree, missing_excerpts([plan], ratios), cache)))
    forecast = time.perf_counter() - start
    plan = resolve(inventory, target, (cut,), ratios)
    start = time.perf_counter()
    with ThreadPoolExecutor(2) as pool:
        list(pool.map(alone, sorted(tree.glob("*.wav"))))
    yardstick = time.perf_counter() - start
    start = time.perf_counter()
    done = finish(ship(plan, tmp_path / "out", threads=2))
    shipped = time.perf_counter() - start
    whole = 3600 / (SOUNDS * SECONDS)
    apart = plan.total("package") / sum(row.package for row in done.manifest.sounds) - 1
    report("an hour of stereo sounds, forecast", f"{apart * 100:+.1f} % off", f"{forecast * whole:.1f} s", "10 s")
    report("the same, shipped as Vorbis", "libsndfile alone, 2 threads", f"{shipped / yardstick:.2f}x", "1.2x")
    benchmark.pedantic(lambda: None)
    assert shipped < 2 * yardstick and abs(apart) < 0.15


def test_a_long_clip_of_many_joints(benchmark):
    rng = np.random.default_rng(0)
    joints, times = 100, np.round(np.arange(3600) / 60, 6)
    parents = [-1, *(max(0, (n - 1) // 2) if n > 20 else n - 1 for n in range(1, joints))]
    move = rng.normal(0, 0.1, (joints, 3)) * (np.arange(joints) > 0)[:, None]
    local = np.tile(np.eye(4), (joints, 1, 1))
    local[:, :3, 3] = move
    rest = (move, np.tile([0, 0, 0, 1.0], (joints, 1)), np.ones((joints, 3)))
    tree = Hierarchy(parents, rest, local, [rng.normal(0, 0.08, (8, 3)) for _ in range(joints)])
    curves = []
    for joint in range(joints):
        waves = (rng.normal(0, 0.15) * np.sin(rng.uniform(0.6, 15) * times + rng.uniform(0, 6)) for _ in range(4))
        angle, axis = sum(waves), rng.normal(size=3)
        axis /= np.linalg.norm(axis)
        turns = np.concatenate([axis * np.sin(angle / 2)[:, None], np.cos(angle / 2)[:, None]], axis=1)
        curves.append(Curve(joint, "rotation", times, turns, "LINEAR"))
        curves.append(Curve(joint, "translation", times, np.tile(move[joint], (len(times), 1)), "LINEAR"))
        curves.append(Curve(joint, "scale", times, np.ones((len(times), 3)), "LINEAR"))
    start = time.perf_counter()
    found = reduce_motion(curves, tree, MotionBound(1.0, 1.0))
    seconds = time.perf_counter() - start
    keys = f"{found.before:,} keys become {found.after:,}"
    report(f"60 s of {joints} joints within 1 mm", keys, f"{seconds:.2f} s", "2 s")
    benchmark.pedantic(lambda: None)
    assert found.distance.max() <= 1e-3 and seconds < 8
