"""Jobs with a value replaced, removed or added: each is refused in words, or surveyed, shipped and saved again."""

import json
import random

import pytest

from oaktrim.core.errors import OakTrimError
from oaktrim.core.job.document import checks_of, load_job, root_of, save_job, targets_of
from oaktrim.core.makers.build import survey_tree
from oaktrim.core.plan.report import survey
from oaktrim.core.progress import finish
from oaktrim.core.ship.run import ship
from oaktrim.core.survey.cache import SurveyCache
from oaktrim.demo.signface import sign_font
from tests.kit.trees import put

WHOLE = {
    "version": 1, "name": "yard", "root": "art", "targets": ["pocket", "own"], "max_pixels": 100_000,
    "own_targets": [{
        "version": 1, "id": "own", "name": "Own", "about": "", "hardware": ["plain", "bc"], "container": "dds",
        "limits": {"memory": "10 MiB", "longest_side": 64, "materials": 3}, "audience": {"bc": 0.5},
        "size_rule": "free", "oversize": "halved", "packing": {"method": "zstd", "level": 3},
    }],
    "cuts": [
        {"change": {"kind": "cap", "side": 16}, "assets": ["a_base.png"], "targets": []},
        {"change": {"kind": "drop", "levels": 1}, "assets": ["a_ao.png"]},
        {"change": {"kind": "format", "format": "bc1"}, "assets": ["a_base.png"]},
        {"change": {"kind": "loss", "decibels": 1.0}, "assets": ["a_base.png"]},
        {"change": {"kind": "coverage", "threshold": 128}, "assets": ["b_overlay.png"]},
    ],
    "role_rules": [{"role": "normal", "share": 0.5, "floor": 16, "ceiling": 64, "targets": ["pocket"]}],
    "roles": [{"role": "normal", "assets": ["a_rough.png"]}],
    "suppressed": [{"code": "unused-texture", "path": "a", "reason": "r"}],
    "ignore": ["*.tmp"], "role_patterns": [{"pattern": "*_base", "role": "base-colour"}],
    "makers": [
        {
            "kind": "patch", "name": "p/patch", "source": "b_overlay.png",
            "rect": {"x": 2, "y": 2, "width": 8, "height": 8}, "background": [0, 0, 0, 0],
        },
        {
            "kind": "pack", "name": "packed", "layout": "occlusion-roughness-metalness", "size": 16, "bits": 8,
            "lanes": [
                {"feeds": [{"source": "a_ao.png"}]}, {"feeds": [{"source": "a_rough.png", "input": [0.1, 0.9]}]}, {}, {},
            ],
        },
        {"kind": "glyphs", "name": "signs", "font": "s.ttf", "size": 16, "characters": "AB", "spread": 1.0},
    ],
}  # fmt: skip
STRANGE = (
    -1, 0, 1, -5, 2**31, 2**63, 10**30, 1e308, -0.5, 0.5, "", "x", "\0", "a" * 300, "../x", "/abs", "!", None, [], {}, [0] * 9,
    True, "9" * 400 + " GiB", "nan", "[z-a]", "{x}", "..", "a//b", "a/",
)  # fmt: skip


def parts_of(value):
    if isinstance(value, dict | list):
        if value:
            yield value
        for inner in value.values() if isinstance(value, dict) else value:
            yield from parts_of(inner)


def damaged(chance):
    document = json.loads(json.dumps(WHOLE))
    part = chance.choice(list(parts_of(document)))
    key = chance.choice(list(part) if isinstance(part, dict) else range(len(part)))
    if chance.random() < 0.85:
        part[key] = chance.choice(STRANGE)
    else:
        del part[key]
    return document


def carry_out(path, folder):
    job = load_job(path)
    if root_of(job, path) != folder / "art":
        return 0
    cache = SurveyCache(folder / "cache")
    tree = finish(survey_tree(folder / "art", job.scan_settings, job.build_spec, cache))
    found = finish(
        survey(tree.inventory, targets_of(job), cache, job.cuts, job.rules, checks_of(job, tree.inventory.root))
    )
    for plan in found.plans:
        finish(ship(plan, folder / f"out-{plan.target.id}", job.max_pixels))
    save_job(job, folder / "again.oak", folder / "art")
    return 1


@pytest.mark.parametrize("seed", range(2))
def test_damaged_jobs_are_refused_in_words_or_carried_out(tmp_path, seed):
    for name in ("a_base.png", "a_ao.png", "a_rough.png", "b_overlay.png"):
        put(tmp_path / "art", name, size=(32, 32), channels=4 if "overlay" in name else 3)
    (tmp_path / "art" / "s.ttf").write_bytes(sign_font())
    path, chance, done, refused = tmp_path / "a.oak", random.Random(seed), 0, 0
    path.write_text(json.dumps(WHOLE))
    assert carry_out(path, tmp_path) == 1
    for _ in range(250):
        path.write_text(json.dumps(damaged(chance)))
        try:
            done += carry_out(path, tmp_path)
        except OakTrimError as error:
            refused += 1
            assert len(str(error)) > 10
    assert done > 20 and refused > 100
